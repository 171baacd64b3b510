"""Verifying a whole data folder."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

from balise.store.checks.events import EventCheck
from balise.store.checks.finding import RESTORE, STOP, Finding, damage
from balise.store.checks.mender import SeriesMender
from balise.store.checks.series import SeriesCheck
from balise.store.database import looked_at
from balise.store.folders import DataError, must_be_whole, served
from balise.store.progress import Progress
from balise.store.series.store import SeriesStore
from balise.store.state.secrets import ENVIRONMENT


class Check:
    """Looks at everything; with `mend`, puts right what can be, for which no service may run on the folder."""

    def __init__(self, folder: Path, progress: Progress, *, mend: bool = False) -> None:
        must_be_whole(folder)
        if not (folder / "state.db").exists():
            raise DataError(f"there is no console's data in {folder}: name its folder with --data")
        self._folder, self._progress, self._mend = folder, progress, mend
        self.samples = self.events = 0

    def findings(self) -> Iterator[Finding]:
        """Each as it is found. Raises DataError when it is to mend while a service runs."""
        if not self._mend:
            yield from self._look()
            return
        with served(self._folder):
            yield from self._look()

    def _look(self) -> Iterator[Finding]:
        with closing(looked_at(self._folder / "state.db")) as connection:
            yield from damage(connection, "state.db", RESTORE)
        self._progress("state.db", 1, 1)
        if not (self._folder / "secret.key").exists() and not os.environ.get(ENVIRONMENT):
            yield Finding("secret.key", "it is missing: secrets cannot be read", remedy="put the right one back")
        if (self._folder / "series.db").exists():
            yield from self._series()
        events = EventCheck(self._folder / "events", self._progress, mend=self._mend)
        yield from events.findings()
        self.events = events.events

    def _series(self) -> Iterator[Finding]:
        check = SeriesCheck(self._folder / "series.db", self._progress)
        yield from check.findings()
        self.samples = check.samples
        if not self._mend:
            yield from (Finding("series.db", one.what, remedy=STOP) for one in check.unreadable)
        elif check.unreadable:
            store = SeriesStore(self._folder)
            try:
                yield from SeriesMender(self._folder, store).mend(check.unreadable)
            finally:
                store.close()
