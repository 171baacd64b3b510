"""Readers' files: opened when somebody reads a day, and closed when nobody does and others are read more."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path

from balise.store.events.day import DayReader
from balise.store.events.index import Indexer

MOST_OPEN = 12


class _Held:
    """A file, how many read it, and whether it has to be closed once nobody does."""

    def __init__(self, file: DayReader) -> None:
        self.file = file
        self.readers = 0
        self.gone = False


class Leases:
    """Hands out the files of days. One that is being read is never closed."""

    def __init__(self, indexer: Indexer) -> None:
        self._lock = threading.Lock()
        self._indexer = indexer
        self._held: dict[int, _Held] = {}

    @contextmanager
    def of(self, day: int, path: Path) -> Iterator[DayReader]:
        """The file of a day for as long as the block lasts."""
        with self._lock:
            held = self._held.pop(day, None) or _Held(DayReader(path, partial(self._indexer.catch_up, path)))
            self._held[day] = held
            held.readers += 1
        try:
            yield held.file
        finally:
            with self._lock:
                held.readers -= 1
                closing = self._no_more_needed()
                if held.gone and not held.readers:
                    closing.append(held)
            for one in closing:
                one.file.close()

    def _no_more_needed(self) -> list[_Held]:
        """The files read longest ago beyond those that may be open, taken out."""
        idle = [day for day, held in self._held.items() if not held.readers]
        return [self._held.pop(day) for day in idle[: max(0, len(self._held) - MOST_OPEN)]]

    def drop(self, day: int) -> None:
        """The day is forgotten: its file is closed as soon as nobody reads it."""
        with self._lock:
            held = self._held.pop(day, None)
            if held is None:
                return
            held.gone = True
            busy = held.readers > 0
        if not busy:
            held.file.close()

    def close(self) -> None:
        with self._lock:
            every, self._held = list(self._held.values()), {}
        for held in every:
            held.file.close()
