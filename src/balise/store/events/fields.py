"""What the attributes of events hold most: their top values, counted in a span."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterable, Mapping, Set
from dataclasses import dataclass, field
from typing import Any

from balise.api.events import SEVERITIES
from balise.core.filters import fold_name, text_of
from balise.store.events.day import DayReader
from balise.store.events.day_search import DaySearch, Search
from balise.store.events.said import SaidCounts
from balise.store.events.store import EventStore

MOST_VALUES, MOST_NAMES = 20_000, 500
"""Values of one attribute that are counted apart, and names of attributes; what is beyond counts as others."""
MOST_SETS = 1_000_000
"""Events with attributes that come again, which are counted, the newest."""
_COLUMNS = frozenset(("host", "source", "severity"))
MOST_ROWS = 200_000
"""Events with attributes of their own that are looked at in one day, the newest."""


@dataclass
class Field:
    """One attribute: by its name as it was met first, how many events have it, and its values."""

    name: str
    events: int = 0
    values: Counter[Any] = field(default_factory=Counter)

    def add(self, value: Any, count: int) -> None:
        self.events += count
        if value in self.values or len(self.values) < MOST_VALUES:
            self.values[value] += count


class FieldCounts:
    """Counts values. `wanted` are names of attributes; all there are when it is empty."""

    def __init__(self, events: EventStore) -> None:
        self._events = events

    def of(self, search: Search, wanted: Iterable[str] = ()) -> tuple[list[Field], int]:
        """The fields, those that most events have first, and how many events were left out of looking."""
        names = {fold_name(name): name for name in wanted}
        fields: dict[str, Field] = {folded: Field(name) for folded, name in names.items()}
        if not names or names.keys() & _COLUMNS:
            self._columns(fields, names.keys() & _COLUMNS or _COLUMNS, search)
        left = 0
        if not names or names.keys() - _COLUMNS - {"body"}:
            room = MOST_SETS
            for day, file in self._events.existing(search.start, search.end):
                asked = DaySearch(day, file, self._events.lookups)
                table, condition, parameters = asked.condition(search)
                key, low, high = asked.ids(search, table)
                where = f"FROM {table} WHERE {condition} AND ({key} BETWEEN ? AND ? OR {key} < 0)"
                bound = [*parameters, low, high]
                room, more = self._sets(fields, bool(names), file, (where, key, bound), room)
                left += more + self._own(fields, bool(names), file, (where, key, bound))
        held = [one for one in fields.values() if one.events or names]
        return sorted(held, key=lambda f: -f.events), left

    def _columns(self, fields: dict[str, Field], columns: Set[str], search: Search) -> None:
        """What events say in their columns, from the counts that are kept of them where these can answer."""
        for (_, severity, source), said in SaidCounts(self._events).of(search).items():
            told: dict[str, Mapping[str, int]] = {
                "source": {source: said.count},
                "severity": {SEVERITIES[severity]: said.count},
                "host": said.hosts,
            }
            for column in columns:
                field = fields.setdefault(column, Field(column))
                for value, count in told[column].items():
                    field.add(value, count)

    def _sets(
        self, fields: dict[str, Field], only: bool, file: DayReader, asked: tuple[str, str, list[Any]], room: int
    ) -> tuple[int, int]:
        """Counts what sets hold that are kept once, of the newest events; answers for how many more there is room
        after this day, and how many were not looked at."""
        where, key, bound = asked
        sets = f"{where} AND typeof(event.attributes) = 'integer'"
        rows = file.read(
            "SELECT (SELECT attributes FROM kept WHERE id = a), n FROM (SELECT a, count(*) AS n FROM "
            f"(SELECT event.attributes AS a {sets} ORDER BY {key} DESC LIMIT ?) GROUP BY a)",
            [*bound, room],
        )
        self._count(fields, only, rows)
        looked = sum(count for _, count in rows)
        if looked < room:
            return room - looked, 0
        return 0, int(file.read(f"SELECT count(*) {sets}", bound)[0][0]) - looked

    def _own(self, fields: dict[str, Field], only: bool, file: DayReader, asked: tuple[str, str, list[Any]]) -> int:
        """Counts what events hold by themselves; answers how many were not looked at."""
        where, key, bound = asked
        own = f"{where} AND typeof(event.attributes) = 'text'"
        rows = file.read(f"SELECT event.attributes, 1 {own} ORDER BY {key} DESC LIMIT {MOST_ROWS}", bound)
        self._count(fields, only, rows)
        if len(rows) < MOST_ROWS:
            return 0
        return int(file.read(f"SELECT count(*) {own}", bound)[0][0]) - MOST_ROWS

    @staticmethod
    def _count(fields: dict[str, Field], only: bool, rows: Iterable[tuple[str, int]]) -> None:
        for packed, count in rows:
            for name, value in json.loads(packed).items():
                folded = fold_name(name)
                counted = fields.get(folded)
                if counted is None:
                    if only or len(fields) >= MOST_NAMES:
                        continue
                    counted = fields[folded] = Field(name)
                members = value if isinstance(value, list) else [value]
                for member in members:
                    counted.add(_shown(member), count)
                # An event with several values is one event.
                counted.events -= count * (len(members) - 1)


def _shown(value: Any) -> Any:
    """A value as it is counted: text, a number or a bool."""
    return value if isinstance(value, str | int | float | bool) else text_of(value)
