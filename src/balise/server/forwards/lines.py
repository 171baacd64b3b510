"""Events as they are sent on: those that pass a filter, in the order in which they were written."""

from __future__ import annotations

from collections.abc import Callable

from balise.api.events import Event
from balise.core.filters import Filter
from balise.server.forwards.source import Found, Places
from balise.store.events.forwarded import Written
from balise.store.events.store import read_event

AT_ONCE = 500


class Lines:
    """`where` gives the filter as it is now."""

    def __init__(self, written: Written, where: Callable[[], Filter | None]) -> None:
        self._written = written
        self._where = where

    def ends(self) -> Places:
        return self._written.ends()

    def waiting(self, places: Places) -> int:
        return self._written.waiting(places)

    def step(self, places: Places) -> Found[Event] | None:
        found = self._written.step(places, self._where(), AT_ONCE)
        if found is None:
            return None
        rows, reached = found
        return Found([read_event(day, row) for day, row in rows], reached)
