"""When the console itself was there: while it was not, nobody saw whether others were."""

from __future__ import annotations

import time
from collections.abc import Callable
from itertools import pairwise

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from balise.store.state.store import StateStore
from balise.store.state.tables import ConsoleRun

SETTLING = 60.0
"""Seconds after a start in which hosts find their console again, so that a restart of it is nobody's outage."""
FORGET = 100.0
"""Seconds between two runs below which nothing was missed."""
MOST_ABSENCES = 200


class ConsoleRuns:
    """The runs of the console: one row each, with when it was last alive."""

    def __init__(self, *, state: StateStore, clock: Callable[[], float] = time.time) -> None:
        self._state = state
        self._clock = clock
        self._number: int | None = None
        self._began: float | None = None

    def note(self) -> None:
        """Keeps that the console is alive."""
        now = self._clock()

        def write(session: Session) -> int:
            if self._number is None:
                row = ConsoleRun(began_at=now if self._began is None else self._began, alive_at=now)
                session.add(row)
                session.flush()
                return row.id
            session.execute(update(ConsoleRun).where(ConsoleRun.id == self._number).values(alive_at=now))
            return self._number

        self._number = self._state.write(write)

    def absences(self) -> list[tuple[float, float]]:
        """The last stretches, unix seconds, in which hosts could not be heard, however short: between two runs, and
        until they have found the console again."""
        newest = select(ConsoleRun).order_by(ConsoleRun.id.desc()).limit(MOST_ABSENCES + 1)
        rows = self._state.read(lambda s: list(s.scalars(newest)))[::-1]
        began = [row.began_at for row in rows[1:]]
        if self._number is None:
            # This one is not written down yet, and will have begun now.
            self._began = self._clock() if self._began is None else self._began
            began.append(self._began)
        found: list[tuple[float, float]] = []
        for before, after in zip(rows, began, strict=False):
            heard = max(before.alive_at, found[-1][1]) if found else before.alive_at
            found.append((heard, after + SETTLING))
        return found

    def gaps(self, start: float, end: float) -> list[tuple[float, float]]:
        """Stretches of [start, end), unix seconds, in which the console was not there; nothing before its first run."""
        query = select(ConsoleRun).where(ConsoleRun.began_at < end).order_by(ConsoleRun.id)
        rows = self._state.read(lambda s: list(s.scalars(query)))
        found = []
        for before, after in pairwise(rows):
            if after.began_at - before.alive_at > FORGET and after.began_at + SETTLING > start:
                found.append((before.alive_at, min(after.began_at + SETTLING, self._clock())))
        return found
