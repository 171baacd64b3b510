"""The last sealed point of each series: from it growth goes on, and what is not later than it comes late."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from balise.core.series.growth import Before
from balise.store.series.catalogue import Catalogue

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
UNKNOWN = np.iinfo(np.int64).min

LastOf = Callable[[Sequence[int], int, int], list[tuple[I64, F64]]]
"""What blocks hold of some series within [start, end): times and values of each."""


class Tails:
    """Kept as arrays by series; after a start read from a host's last blocks when first asked for.

    Of a series that has nothing in the last `back` nanoseconds before its host was last sealed before the start, only
    that is known: its tail is that moment, without a value.
    """

    def __init__(self, catalogue: Catalogue, last_of: LastOf, back: int) -> None:
        self._catalogue = catalogue
        self._sealed_until: Mapping[int, int] = {}
        self._last_of = last_of
        self._back = back
        self._lock = threading.Lock()
        self._times = np.empty(0, np.int64)
        self._values = np.empty(0)

    def begin(self, sealed_until: Mapping[int, int]) -> None:
        """Until when each host was sealed at the start. What is sealed since is noted: of a series of which nothing is,
        nothing was, however much of its host's other series."""
        self._sealed_until = dict(sealed_until)

    def of(self, series: I64) -> Before:
        """The tails of these series."""
        with self._lock:
            self._room(series)
            missing = series[self._times[series] == UNKNOWN]
            if len(missing):
                self._load(missing)
            return Before(self._times[series], self._values[series])

    def note(self, series: I64, times: I64, values: F64) -> None:
        """These points, one for each series, are sealed now.

        One that came late is the last of a series of which nothing was known since before it.
        """
        with self._lock:
            self._room(series)
            known = self._times[series]
            later = (times > known) | (np.isnan(self._values[series]) & (times > known - self._back))
            self._times[series[later]] = times[later]
            self._values[series[later]] = values[later]

    def _room(self, series: I64) -> None:
        size = int(series.max(initial=-1)) + 1
        if size > len(self._times):
            more = size + size // 4 + 64 - len(self._times)
            self._times = np.concatenate([self._times, np.full(more, UNKNOWN, np.int64)])
            self._values = np.concatenate([self._values, np.full(more, np.nan)])

    def _load(self, series: I64) -> None:
        by_host: dict[int, list[int]] = {}
        for one, host in zip(series.tolist(), self._catalogue.series.hosts_of(series).tolist(), strict=True):
            by_host.setdefault(host, []).append(one)
        for host, mine in by_host.items():
            until = self._sealed_until.get(host, 0)
            self._times[mine] = until
            if until:
                for one, (times, values) in zip(mine, self._last_of(mine, until - self._back, until + 1), strict=True):
                    good = np.flatnonzero(~np.isnan(values))
                    if len(good):
                        self._times[one], self._values[one] = times[good[-1]], values[good[-1]]
