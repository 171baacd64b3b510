"""One event by its id, and what was said right before and after it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from balise.core.filters import Both, Compare, Filter
from balise.core.moments import NS, Nanos
from balise.store.events.day_search import COLUMNS, DAY, DaySearch, Search
from balise.store.events.store import EventStore

SPANS = (60 * NS, 600 * NS, 7200 * NS, DAY)
"""How far is looked, one after the other, until there are enough lines: within a span they are put in strict order."""

Row = Sequence[Any]
"""As `COLUMNS` says."""


class Around:
    """Reads what stands beside an event."""

    def __init__(self, events: EventStore) -> None:
        self._events = events

    def one(self, day: int, number: int) -> Row | None:
        """The event of a number on a day since 1970; None when there is none any more."""
        for _, file in self._events.existing(day * DAY, (day + 1) * DAY):
            rows = file.read(f"SELECT {COLUMNS} FROM event WHERE id = ?", [number])
            return rows[0] if rows else None
        return None

    def beside(self, day: int, row: Row, lines: int, *, source: bool) -> tuple[list[Any], list[Any]]:
        """The last `lines` before and the first after, of its host or its source there alone: days with their rows,
        both in the order of time. No further away than a day."""
        number, time, host, _, name, *_ = row
        where: Filter = Compare("host", "eq", host)
        if source:
            where = Both(where, Compare("source", "eq", name))
        this = (day, time, number)
        before = self._nearest(where, this, lines, newest=True)
        return before[::-1], self._nearest(where, this, lines, newest=False)

    def _nearest(self, where: Filter, this: tuple[int, int, int], lines: int, *, newest: bool) -> list[Any]:
        found: list[Any] = []
        _, time, number = this
        for span in SPANS:
            start, end = (time - span, time + 1) if newest else (time, time + span)
            search = Search(Nanos(start), Nanos(end), "", where)
            found = []
            days = range(search.start // DAY, (search.end - 1) // DAY + 1)
            for day in reversed(days) if newest else days:
                for _, file in self._events.existing(day * DAY, (day + 1) * DAY):
                    rows = DaySearch(day, file, self._events.lookups).in_order(
                        search, (time, number), lines - len(found), newest=newest
                    )
                    found += [(day, row) for row in rows]
                if len(found) >= lines:
                    return found
        return found
