"""Which events are kept how long: by filter, and by how much all of them take."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from balise.core.filters import Filter
from balise.store.events.sqlfilter import Lookups, to_sql


@dataclass(frozen=True)
class KeepRule:
    """Events that pass a filter are kept so many days."""

    where: Filter | None
    days: float


@dataclass(frozen=True)
class Keeping:
    """The first rule that an event passes decides; all others are kept `days`."""

    rules: Sequence[KeepRule]
    days: float
    most_bytes: int | None = None

    @property
    def longest(self) -> float:
        """Days after which nothing is kept."""
        return max([self.days, *(rule.days for rule in self.rules)])

    def over(self, age: float, lookups: Lookups) -> tuple[str, list[Any]] | None:
        """The condition of events that are over at an age in days; None when there are none of them."""
        earlier: list[tuple[str, list[Any]]] = []
        over: list[tuple[str, list[Any]]] = []
        for rule in self.rules:
            own = to_sql(rule.where, lookups) if rule.where is not None else ("1", [])
            if age > rule.days:
                over.append(_but_not(own, earlier))
            earlier.append(own)
        if age > self.days:
            over.append(_but_not(("1", []), earlier))
        if not over:
            return None
        return "(" + " OR ".join(sql for sql, _ in over) + ")", [p for _, parameters in over for p in parameters]


def _but_not(own: tuple[str, list[Any]], earlier: Sequence[tuple[str, list[Any]]]) -> tuple[str, list[Any]]:
    sql = " AND ".join([own[0], *(f"NOT {one}" for one, _ in earlier)])
    return f"({sql})", [*own[1], *(p for _, parameters in earlier for p in parameters)]
