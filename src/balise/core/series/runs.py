"""Summing up what many hosts sent, at once: of few points a host, each call of a library for one of them counts."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from balise.core.moments import NS
from balise.core.series.growth import MAX_GAP, Before
from balise.core.series.summary import Summary
from balise.core.series.wire import PointKind

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]


@dataclass(frozen=True)
class Run:
    """Points of some series that share their moments: `times` ascending nanoseconds [n], `values` [n, series], all of
    them finite; `kinds` and `before` as `add_growth` takes them."""

    times: I64
    values: F64
    kinds: Sequence[PointKind]
    before: Before


class Runs:
    """Runs of equally many series, summed up together: as `summarise` and `add_growth` do it one by one."""

    def __init__(self, runs: Sequence[Run]) -> None:
        self._runs = runs
        self._times = np.concatenate([run.times for run in runs])
        self._values = np.concatenate([run.values for run in runs])
        self._sizes = np.array([len(run.times) for run in runs])
        self._starts = self._sizes.cumsum() - self._sizes
        self._delta = np.array([[kind == "delta" for kind in run.kinds] for run in runs])
        joined = np.array([run.before.values for run in runs])
        first = self._times[self._starts][:, None] - np.array([run.before.times for run in runs])
        self._joined = np.isfinite(joined) & (first <= MAX_GAP)
        self._since = np.where(self._joined, first / NS, 0.0)
        """Of each run and series the seconds from the point before to the first, where that is known."""
        self._from = np.where(self._joined, joined, 0.0)

    @cached_property
    def _gaps(self) -> I64:
        """Nanoseconds from the moment before, [n]; 0 at the first of each run."""
        gaps = np.diff(self._times, prepend=0)
        gaps[self._starts] = 0
        return gaps

    @cached_property
    def _change(self) -> F64:
        """What each point grew by, [n, series]."""
        counter = np.array([[kind == "counter" for kind in run.kinds] for run in self._runs])
        change = np.empty_like(self._values)
        with np.errstate(over="ignore"):
            np.subtract(self._values[1:], self._values[:-1], out=change[1:])
            change[self._starts] = self._values[self._starts] - self._from
        reset = (change < 0) & counter.repeat(self._sizes, axis=0)
        change[reset] = self._values[reset]
        change[self._starts] = np.where(self._joined, change[self._starts], 0.0)
        change[self._gaps > MAX_GAP] = 0.0
        return change

    @property
    def are_plain(self) -> bool:
        """Whether all that they grew by is a number; `sums` is for such runs only."""
        return bool(np.isfinite(self._change).all())

    def sums(self, width: int) -> Iterator[tuple[I64, Summary]]:
        """Of each run the steps that it has points in, so many nanoseconds wide and counted from 1970 on, [steps]; and
        what happened in them, [series, steps]."""
        number = self._times // width
        fresh = np.diff(number, prepend=number[:1] - 1) != 0
        fresh[self._starts] = True
        edges = np.flatnonzero(fresh)
        ends = np.append(edges[1:], len(number))
        low, high, total = (how.reduceat(self._values, edges, axis=0) for how in (np.minimum, np.maximum, np.add))
        last = self._values[ends - 1]
        grown = np.add.reduceat(self._change, edges, axis=0)
        usable = np.where(self._gaps <= MAX_GAP, self._gaps, 0) / NS
        over = np.add.reduceat(usable, edges)
        bounds = np.append(np.searchsorted(edges, self._starts), len(edges)).tolist()
        for place, (start, end) in enumerate(pairwise(bounds)):
            part = slice(start, end)
            shape = low[part].T.shape
            seen = np.broadcast_to(over[part], shape).copy()
            seen[:, 0] += self._since[place]
            delta = self._delta[place][:, None]
            yield (
                number[edges[part]],
                Summary(
                    low[part].T,
                    high[part].T,
                    total[part].T,
                    np.broadcast_to((ends - edges)[part].astype(np.float64), shape),
                    last[part].T,
                    np.where(delta, 0.0, grown[part].T),
                    np.where(delta, 0.0, seen),
                ),
            )
