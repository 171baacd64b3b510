"""Events in the order in which they were written, from where a reader left off: those to be sent on."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from balise.core.filters import Filter
from balise.store.events.day import DayReader
from balise.store.events.day_search import COLUMNS, DAY
from balise.store.events.sqlfilter import to_sql
from balise.store.events.store import EventStore

LOOKED_AT = 20_000
"""Events that are looked at in one step."""
Positions = Mapping[int, tuple[int, int]]
"""How far each day was read: the lowest number of late events, and the highest of the others."""


class Written:
    """Reads what was written since, day by day. Nothing is read twice, whatever comes late; of days that were set
    aside and brought back nothing is read at all."""

    def __init__(self, events: EventStore) -> None:
        self._events = events

    def ends(self) -> dict[int, tuple[int, int]]:
        """How far every day goes now."""
        back = self._events.brought_back()
        return {day: _ends(file) for day, file in self._events.existing(0, 1 << 62) if day not in back}

    def waiting(self, positions: Positions) -> int:
        """How many events there are beyond these positions."""
        total = 0
        for day, (low, high) in self.ends().items():
            from_low, from_high = positions.get(day, (0, 0))
            total += max(0, high - from_high) + max(0, from_low - low)
        return total

    def step(
        self, positions: Positions, where: Filter | None, most: int
    ) -> tuple[list[tuple[int, Any]], dict[int, tuple[int, int]]] | None:
        """Some events that pass a filter, with their days, and how far all days were read then; None for no more."""
        condition, parameters = to_sql(where, self._events.lookups) if where is not None else ("1", [])
        back = self._events.brought_back()
        days = [day for day in self._events.days() if day not in back]
        left = {day: place for day, place in positions.items() if day in days}
        for day in days:
            for _, file in self._events.existing(day * DAY, (day + 1) * DAY):
                low, high = _ends(file)
                from_low, from_high = left.get(day, (0, 0))
                for column, first, last in (
                    ("high", from_high + 1, min(high, from_high + LOOKED_AT)),
                    ("low", max(low, from_low - LOOKED_AT), from_low - 1),
                ):
                    if first > last:
                        continue
                    order = "ASC" if column == "high" else "DESC"
                    rows = file.read(
                        f"SELECT {COLUMNS} FROM event WHERE id BETWEEN ? AND ? AND {condition} "
                        f"ORDER BY id {order} LIMIT ?",
                        [first, last, *parameters, most],
                    )
                    # With as many as are wanted, what follows the last of them is still to be read.
                    full = len(rows) == most
                    if column == "high":
                        left[day] = (from_low, rows[-1][0] if full else last)
                    else:
                        left[day] = (rows[-1][0] if full else first, from_high)
                    return [(day, row) for row in rows], left
        return None


def _ends(file: DayReader) -> tuple[int, int]:
    ends = "SELECT (SELECT min(id) FROM event), (SELECT max(id) FROM event)"
    low, high = file.read(ends, [])[0]
    return min(0, low or 0), max(0, high or 0)
