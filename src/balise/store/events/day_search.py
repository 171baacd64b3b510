"""What is looked for in events, and how one day is asked for it."""

from __future__ import annotations

import heapq
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from balise.core import filters
from balise.core.filters import Filter
from balise.core.moments import NS, Nanos
from balise.store.events.day import MINUTE, DayReader
from balise.store.events.index import match_expression
from balise.store.events.sqlfilter import Lookups, Tag, required_tags, to_sql

DAY = 86_400 * NS
ATTRIBUTES = (
    "CASE typeof(event.attributes) WHEN 'integer' "
    "THEN (SELECT kept.attributes FROM kept WHERE kept.id = event.attributes) ELSE event.attributes END"
)
COLUMNS = (
    "event.id, time, (SELECT name FROM host WHERE host.id = event.host), severity, "
    f"(SELECT name FROM source WHERE source.id = event.source), event.body, {ATTRIBUTES}, pattern"
)
"""Id, time, host, severity code, source, body, attributes and pattern, as an event is answered."""


@dataclass(frozen=True)
class Search:
    """What is looked for, from `start` to `end`, which is not included."""

    start: Nanos
    end: Nanos
    text: str = ""
    where: Filter | None = None


class BadCursor(ValueError):
    """The cursor is not one of ours."""


def needs_more(node: Filter) -> bool:
    """Whether the kept counts, which know severity alone, cannot answer."""
    return bool(filters.attributes_of(node) - {"severity"})


@dataclass(frozen=True)
class Place:
    """How far a reader got in one day: below which id, and among the late ones before which time and id."""

    day: int
    id: int | None = None
    late_time: int = 1 << 62
    late_id: int = 0

    def after(self, row: Sequence[Any]) -> Place:
        if row[0] > 0:
            return Place(self.day, row[0], self.late_time, self.late_id)
        return Place(self.day, self.id, row[1], row[0])

    def text(self) -> str:
        return f"{self.day}.{self.id or 0}.{self.late_time}.{-self.late_id}"


def read_cursor(cursor: str) -> Place:
    """Raises BadCursor."""
    try:
        day, number, late_time, late_id = (int(part) for part in cursor.split("."))
    except ValueError:
        raise BadCursor("the cursor is not one that an earlier answer gave: leave it out to begin anew") from None
    return Place(day, number or None, late_time, -late_id)


class DaySearch:
    """One day, asked."""

    def __init__(self, day: int, file: DayReader, lookups: Lookups) -> None:
        self._day = day
        self._file = file
        self._lookups = lookups

    def newest_first(self, search: Search, at: Place, limit: int) -> list[Any]:
        """Rows of one day: those in order by id, the late ones by time, put together by time."""
        table, condition, parameters = self.condition(search)
        key, low, high = self.ids(search, table)
        columns = f"SELECT {COLUMNS} FROM {table} WHERE "
        prompt = self._file.read(
            f"{columns} {condition} AND {key} BETWEEN ? AND ? ORDER BY {key} DESC LIMIT ?",
            [*parameters, low, high if at.id is None else min(high, at.id - 1), limit],
        )
        late = self._file.read(
            f"{columns} {condition} AND {key} < 0 AND (time, id) < (?, ?) ORDER BY time DESC, id DESC LIMIT ?",
            [*parameters, at.late_time, at.late_id, limit],
        )
        return list(heapq.merge(prompt, late, key=lambda row: -row[1]))[:limit] if late else prompt

    def in_order(self, search: Search, past: tuple[int, int], limit: int, *, newest: bool) -> list[Any]:
        """Rows before a time and id, the newest first, or after them, the oldest first: in strict order of time."""
        table, condition, parameters = self.condition(search)
        key, low, high = self.ids(search, table)
        sign, order = ("<", "DESC") if newest else (">", "ASC")
        return self._file.read(
            f"SELECT {COLUMNS} FROM {table} WHERE {condition} "
            f"AND ({key} BETWEEN ? AND ? OR {key} < 0) AND (time, id) {sign} (?, ?) "
            f"ORDER BY time {order}, id {order} LIMIT ?",
            [*parameters, low, high, *past, limit],
        )

    def kept_bars(self, where: Filter | None, first: int, last: int, start: int, width: int) -> list[Any]:
        """How many there were by the kept counts: step, severity code, count. From and to are minutes' starts."""
        condition, parameters = to_sql(where, self._lookups) if where is not None else ("1", [])
        return self._file.read(
            f"SELECT (minute * {MINUTE} - ?) / ?, severity, sum(count) FROM minute "
            f"WHERE minute >= ? AND minute < ? AND {condition} GROUP BY 1, 2",
            [start, width, first // MINUTE, last // MINUTE, *parameters],
        )

    def counted(self, span: Search, start: int, width: int) -> list[Any]:
        """How many there were, by looking: step, severity code, count."""
        table, condition, parameters = self.condition(span)
        key, low, high = self.ids(span, table)
        return self._file.read(
            f"SELECT (time - ?) / ?, severity, count(*) FROM {table} "
            f"WHERE {condition} AND ({key} BETWEEN ? AND ? OR {key} < 0) GROUP BY 1, 2",
            [start, width, *parameters, low, high],
        )

    def ids(self, search: Search, table: str) -> tuple[str, int, int]:
        """What the ids are called, and the lowest and highest of those in the order of time that may match."""
        low, high = self._file.ids_between(max(search.start, self._day * DAY), min(search.end, (self._day + 1) * DAY))
        return "words.rowid" if table != "event" else "event.id", max(low, 1), high

    def condition(self, search: Search) -> tuple[str, str, list[Any]]:
        """What to read from, the condition, and the parameters of both in their order.

        With words the index is read first, by its own row ids: the newest matches come without sorting the rest.
        """
        table = "event"
        conditions: list[str] = []
        parameters: list[Any] = []
        expression = match_expression(search.text, self._tags(required_tags(search.where, self._lookups)))
        if expression:
            self._file.index()
            table = "ix.words CROSS JOIN event ON event.id = words.rowid"
            conditions.append("words MATCH ?")
            parameters.append(expression)
        if search.start > self._day * DAY:
            conditions.append("time >= ?")
            parameters.append(search.start)
        if search.end < (self._day + 1) * DAY:
            conditions.append("time < ?")
            parameters.append(search.end)
        if search.where is not None:
            sql, more = to_sql(search.where, self._lookups)
            conditions.append(sql)
            parameters.extend(more)
        return table, " AND ".join(conditions) or "1", parameters

    def _tags(self, groups: Sequence[Sequence[Tag]]) -> list[list[str]]:
        """The tags as the index of this day has them. One that nothing has stands for a name that is not there."""
        return [[self._tag(letter, value) for letter, value in group] or ["h0"] for group in groups]

    def _tag(self, letter: str, value: Any) -> str:
        if letter == "h":
            found = self._file.read("SELECT id FROM host WHERE name = ?", [value])
            value = found[0][0] if found else 0
        return f"{letter}{value}"
