"""The open alerts that a rule counts."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from balise.core import filters
from balise.server.rules.groups import MOST_GROUPS, Groups

F64 = NDArray[np.float64]


class AlertFeed:
    """Counts open alerts by what they have of `each`; one that has several of a thing counts for each."""

    def __init__(self, where: str, *, groups: Groups, host_of: Callable[[str], int | None]) -> None:
        self._where = filters.parse(where)
        self._groups = groups
        self._host_of = host_of
        self._counts: Counter[int] = Counter()

    def count(self, alerts: Iterable[Callable[[str], Any]]) -> None:
        """Takes the open alerts of this moment, each as what a filter may ask of it."""
        self._counts = Counter(group for lookup in alerts for group in self.groups_of(lookup))

    def groups_of(self, lookup: Callable[[str], Any]) -> list[int]:
        """The groups in which an alert counts; none when it does not pass."""
        if not filters.matches(self._where, lookup):
            return []
        found = []
        for values in _combinations([(name, lookup(filters.fold_name(name))) for name in self._groups.each]):
            host = values.get("host", "")
            found.append(self._groups.of(values, self._host_of(host), host, most=MOST_GROUPS))
        return [number for number in found if number is not None]

    def values(self) -> F64:
        """How many there are of each group: none is 0."""
        out = np.zeros(len(self._groups))
        for number, count in self._counts.items():
            out[number] = count
        return out


def _combinations(named: list[tuple[str, Any]]) -> list[dict[str, str]]:
    """Every choice of one value for each name; nothing, when one of them has no value."""
    found: list[dict[str, str]] = [{}]
    for name, value in named:
        values = value if isinstance(value, list | tuple | set) else [value]
        texts = [filters.text_of(one) for one in values if filters.is_present(one)]
        found = [{**one, name: text} for one in found for text in texts]
    return found[:100]
