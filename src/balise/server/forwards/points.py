"""Points as they are sent on: those of series that pass a filter, in the order in which they came."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from fnmatch import fnmatchcase
from typing import NamedTuple

import numpy as np

from balise.core import filters
from balise.core.filters import Filter
from balise.server.forwards.source import POINTS, Found, Places
from balise.server.hosts.directory import Directory
from balise.store.series.catalogue import Catalogue, Metric
from balise.store.series.forwarded import Arrived, Position
from balise.store.series.query import lookup_of
from balise.store.series.roster import Series

AT_ONCE = 10_000
MOST_DECIDED = 500_000
"""Series of which it is remembered whether they pass."""


class Point(NamedTuple):
    """One number of a series, at a moment, unix nanoseconds."""

    host: str
    metric: Metric
    series: Series
    time: int
    value: float


class Points:
    """Points of metrics whose names are among `names` (`*` for any characters), or of all.

    Args:
        where: gives the filter as it is now, on what hosts are and on what series have.
    """

    def __init__(
        self,
        arrived: Arrived,
        catalogue: Catalogue,
        directory: Directory,
        *,
        names: Sequence[str],
        where: Callable[[], Filter | None],
    ) -> None:
        self._arrived = arrived
        self._catalogue = catalogue
        self._directory = directory
        self._names = names
        self._where = where
        self._decided: dict[int, tuple[str, Metric, Series] | None] = {}
        self._as_of: tuple[int, Filter | None] = (-1, None)

    def ends(self) -> Places:
        return {POINTS: self._arrived.end()}

    def waiting(self, places: Places) -> int:
        return self._arrived.waiting(_position(places))

    def step(self, places: Places) -> Found[Point] | None:
        found = self._arrived.step(_position(places), AT_ONCE)
        if found is None:
            return None
        as_of = (self._directory.version, self._where())
        if as_of != self._as_of or len(self._decided) > MOST_DECIDED:
            self._decided.clear()
            self._as_of = as_of
        numbers, which = np.unique(found.series, return_inverse=True)
        passing = [self._passing(number, as_of[1]) for number in numbers.tolist()]
        mine = np.array([one is not None for one in passing], bool)[which] & ~np.isnan(found.values)
        told = zip(which[mine].tolist(), found.times[mine].tolist(), found.values[mine].tolist(), strict=True)
        items: list[Point] = []
        for place, time, value in told:
            one = passing[place]
            if one is not None:
                items.append(Point(one[0], one[1], one[2], time, value))
        return Found(items, {POINTS: found.position}, found.more)

    def _passing(self, number: int, where: Filter | None) -> tuple[str, Metric, Series] | None:
        """What a series is, if its points are sent on."""
        if number not in self._decided:
            self._decided[number] = self._decide(number, where)
        return self._decided[number]

    def _decide(self, number: int, where: Filter | None) -> tuple[str, Metric, Series] | None:
        one = self._catalogue.series.get(number)
        host = self._directory.name(one.host) if one is not None else None
        if one is None or host is None:
            return None
        metric = self._catalogue.metric_by_id[one.metric]
        if self._names and not any(fnmatchcase(metric.name, name) for name in self._names):
            return None
        if where is not None and not filters.matches(where, lookup_of(self._directory, one)):
            return None
        return host, metric, one


def _position(places: Places) -> Position:
    return Position(*places.get(POINTS, (0, 0)))
