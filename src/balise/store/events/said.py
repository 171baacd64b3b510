"""How often each pattern was said: from the kept counts by the hour where they can answer, else by looking."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import Any

from balise.core import filters
from balise.core.moments import Nanos
from balise.store.events.day import HOUR, DayReader
from balise.store.events.day_search import DAY, DaySearch, Search
from balise.store.events.sqlfilter import to_sql
from balise.store.events.store import EventStore

MOST_GROUPS = 200_000
"""Patterns and hosts that are counted apart in one day."""
_KEPT = {"host", "severity", "source", "pattern"}
_HOST = "(SELECT name FROM host WHERE host.id = {0}.host)"
_SOURCE = "(SELECT name FROM source WHERE source.id = {0}.source)"


@dataclass
class SaidOften:
    """One pattern in a span. `last` is the day and number of an event of it."""

    pattern: int
    severity: int
    source: str
    count: int = 0
    hosts: Counter[str] = field(default_factory=Counter)
    last: tuple[int, int] = (0, 0)

    def add(self, host: str, count: int, last: tuple[int, int]) -> None:
        self.count += count
        self.hosts[host] += count
        # Late events have negative numbers: any other says more.
        self.last = max(self.last, last, key=lambda at: (at[0], at[1] > 0, abs(at[1])))


Key = tuple[int, int, str]
"""A pattern that counts for itself now, a severity code and a source."""


class SaidCounts:
    """Counts patterns. Those whose place was taken count with the one that took it."""

    def __init__(self, events: EventStore) -> None:
        self._events = events

    def of(self, search: Search) -> dict[Key, SaidOften]:
        found: dict[Key, SaidOften] = {}
        for day, (pattern, severity, source, host, count, last) in self._groups(search):
            root = self._events.book.root(pattern)
            key = (root.id if root else 0, severity, source)
            found.setdefault(key, SaidOften(*key)).add(host, count, (day, last))
        return found

    def body(self, last: tuple[int, int]) -> str:
        """What an event of a day and a number says; nothing when there is none any more."""
        day, number = last
        for _, file in self._events.existing(day * DAY, (day + 1) * DAY):
            rows = file.read("SELECT body FROM event WHERE id = ?", [number])
            return rows[0][0] if rows else ""
        return ""

    def _groups(self, search: Search) -> Iterator[tuple[int, Any]]:
        names = filters.attributes_of(search.where) if search.where is not None else set()
        kept = not search.text.strip() and all(n in _KEPT or filters.is_of_host(n) for n in names)
        first, last = -(-search.start // HOUR) * HOUR, search.end // HOUR * HOUR
        for day, file in self._events.existing(search.start, search.end):
            asked = DaySearch(day, file, self._events.lookups)
            spans = [(search.start, search.end)]
            if kept and first < last:
                # Hours that are wholly inside from the counts, what is left of the first and last one by looking.
                spans = [(search.start, Nanos(first)), (Nanos(last), search.end)]
                condition, parameters = to_sql(search.where, self._events.lookups) if search.where else ("1", [])
                rows = file.read(
                    f"SELECT pattern, severity, {_SOURCE.format('said')}, {_HOST.format('said')}, sum(count), "
                    f"max(last) FROM said WHERE hour >= ? AND hour < ? AND {condition} "
                    f"GROUP BY pattern, severity, source, host LIMIT {MOST_GROUPS}",
                    [first // HOUR, last // HOUR, *parameters],
                )
                yield from ((day, row) for row in rows)
            for start, end in spans:
                if start < end and start < (day + 1) * DAY and end > day * DAY:
                    rows = self._looked(asked, file, replace(search, start=start, end=end))
                    yield from ((day, row) for row in rows)

    @staticmethod
    def _looked(asked: DaySearch, file: DayReader, search: Search) -> list[Any]:
        table, condition, parameters = asked.condition(search)
        key, low, high = asked.ids(search, table)
        return file.read(
            f"SELECT pattern, severity, {_SOURCE.format('event')}, {_HOST.format('event')}, count(*), max(event.id) "
            f"FROM {table} WHERE {condition} AND ({key} BETWEEN ? AND ? OR {key} < 0) "
            f"GROUP BY pattern, severity, source, host LIMIT {MOST_GROUPS}",
            [*parameters, low, high],
        )
