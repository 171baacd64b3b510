"""Summing series up in steps of time.

Arrays are [series, steps] throughout; a step without points has `count`, `total`, `grown` and `seen` 0 and NaN
elsewhere.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from balise.core.series.steps import Steps

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]


FIELDS = ("low", "high", "total", "count", "last", "grown", "seen")


@dataclass(frozen=True)
class Summary:
    """What happened in each step. All float64 [series, steps].

    `grown` is how much was added since the point before, resets taken into account, and `seen` the seconds over
    which that was watched; deltas keep neither, theirs is `total`.
    """

    low: F64
    high: F64
    total: F64
    count: F64
    last: F64
    grown: F64
    seen: F64

    @staticmethod
    def empty(series: int, steps: int) -> Summary:
        gap, zero = np.full((series, steps), np.nan), np.zeros((series, steps))
        return Summary(gap, gap.copy(), zero, zero.copy(), gap.copy(), zero.copy(), zero.copy())

    @staticmethod
    def room(series: int, steps: int, fields: Collection[str]) -> Summary:
        """An empty summary in which only these fields, and `count`, take room; the others must not be written."""
        gap, zero = np.broadcast_to(np.nan, (series, steps)), np.broadcast_to(0.0, (series, steps))
        made = {
            name: (np.zeros((series, steps)) if name in fields or name == "count" else zero)
            if name in ("total", "count", "grown", "seen")
            else (np.full((series, steps), np.nan) if name in fields else gap)
            for name in FIELDS
        }
        return Summary(**made)

    def rows(self, chosen: NDArray[np.intp] | slice) -> Summary:
        return Summary(*(getattr(self, name)[chosen] for name in FIELDS))

    def steps(self, chosen: NDArray[np.intp]) -> Summary:
        return Summary(*(getattr(self, name)[:, chosen] for name in FIELDS))

    def add(self, rows: NDArray[np.intp], steps: NDArray[np.intp] | slice, other: Summary) -> None:
        """Adds `other`, which comes later in time; its rows and steps are the given ones of this."""
        place = np.ix_(rows, steps) if not isinstance(steps, slice) else (rows, steps)
        self.low[place] = np.fmin(self.low[place], other.low)
        self.high[place] = np.fmax(self.high[place], other.high)
        self.last[place] = np.where(other.count > 0, other.last, self.last[place])
        for name in ("total", "count", "grown", "seen"):
            getattr(self, name)[place] += getattr(other, name)

    def replace(self, rows: NDArray[np.intp], steps: NDArray[np.intp] | slice, other: Summary) -> None:
        """Puts `other` in the place of what was known of those of its steps that have points."""
        place = np.ix_(rows, steps) if not isinstance(steps, slice) else (rows, steps)
        some = other.count > 0
        for name in FIELDS:
            mine = getattr(self, name)
            mine[place] = np.where(some, getattr(other, name), mine[place])


def summarise(times: I64, values: F64, steps: Steps) -> Summary:
    """Sums up series that share their times.

    Args:
        times: ascending nanoseconds [n].
        values: float64 [series, n]; NaN is no value.
        steps: where to; points outside are left out.
    """
    lo, hi = np.searchsorted(times, [steps.start, steps.end])
    out = Summary.empty(len(values), steps.count)
    if lo == hi:
        return out
    part = values[:, lo:hi]
    index = steps.index(times[lo:hi])
    edges = np.flatnonzero(np.diff(index, prepend=index[0] - 1))
    where = index[edges]
    holes = np.isnan(part)
    if not holes.any():
        out.low[:, where] = np.minimum.reduceat(part, edges, axis=1)
        out.high[:, where] = np.maximum.reduceat(part, edges, axis=1)
        out.total[:, where] = np.add.reduceat(part, edges, axis=1)
        out.count[:, where] = np.diff(edges, append=hi - lo)
        out.last[:, where] = part[:, np.append(edges[1:], hi - lo) - 1]
        return out
    out.low[:, where] = np.fmin.reduceat(part, edges, axis=1)
    out.high[:, where] = np.fmax.reduceat(part, edges, axis=1)
    out.total[:, where] = np.add.reduceat(np.where(holes, 0.0, part), edges, axis=1)
    out.count[:, where] = np.add.reduceat(np.where(holes, 0.0, 1.0), edges, axis=1)
    # Of each step the place of its newest number, so that a hole leaves the one before it.
    newest = np.maximum.reduceat(np.where(holes, -1, np.arange(hi - lo)), edges, axis=1)
    taken = np.take_along_axis(part, np.maximum(newest, 0), axis=1)
    out.last[:, where] = np.where(newest >= 0, taken, np.nan)
    return out


@dataclass(frozen=True)
class Flat:
    """Points of several series laid end to end: by series, then by time.

    `rows` int64 [n] says which series, `times` nanoseconds [n], `values` float64 [n] without NaN.
    """

    rows: I64
    times: I64
    values: F64

    @staticmethod
    def of(pieces: Sequence[tuple[I64, F64]]) -> Flat:
        """From each series' times and values, in ascending order of time."""
        sizes = [len(times) for times, _ in pieces]
        rows = np.repeat(np.arange(len(pieces)), sizes)
        times = np.concatenate([t for t, _ in pieces]) if pieces else np.empty(0, np.int64)
        values = np.concatenate([v for _, v in pieces]) if pieces else np.empty(0)
        return Flat.told(rows, times, values)

    @staticmethod
    def told(rows: I64, times: I64, values: F64) -> Flat:
        """From points that are in order, NaN among them."""
        good = ~np.isnan(values)
        return Flat(rows, times, values) if good.all() else Flat(rows[good], times[good], values[good])

    def within(self, steps: Steps) -> tuple[NDArray[np.bool_], I64]:
        """Which points lie in the steps, and for those the place row x step."""
        inside = (self.times >= steps.start) & (self.times < steps.end)
        rows, times = (self.rows, self.times) if inside.all() else (self.rows[inside], self.times[inside])
        return inside, rows * steps.count + steps.index(times)


def summarise_flat(points: Flat, series: int, steps: Steps, fields: Collection[str] = FIELDS) -> Summary:
    """Sums up many series of different times at once; only `fields`, and `count`, are filled."""
    out = Summary.room(series, steps.count, fields)
    inside, place = points.within(steps)
    if not len(place):
        return out
    values = points.values if inside.all() else points.values[inside]
    edges = np.flatnonzero(np.concatenate([[True], place[1:] != place[:-1]]))
    where = place[edges]
    ends = np.append(edges[1:], len(place))
    alone = len(edges) == len(place)
    for name, how in (("low", np.minimum), ("high", np.maximum), ("total", np.add)):
        if name in fields:
            getattr(out, name).reshape(-1)[where] = values if alone else how.reduceat(values, edges)
    out.count.reshape(-1)[where] = ends - edges
    if "last" in fields:
        out.last.reshape(-1)[where] = values[ends - 1]
    return out


class Stretches(NamedTuple):
    """Points of series that were measured together, stretch by stretch: of each stretch some rows, of one moment and
    with a value of each of its series, in order of time.

    `places` int64 [stretches, k] says which series, no series in two, and `sizes` int64 [stretches] how many rows a
    stretch has; `times` nanoseconds [rows] and `values` float64 [rows, k] are those of all, one after the other.
    """

    places: I64
    sizes: I64
    times: I64
    values: F64


def add_stretches(points: Stretches, steps: Steps, fields: Collection[str], out: Summary) -> bool:
    """Sums up stretches, all within the steps, into what was empty of their series: as `summarise_flat`, in a third of
    the time. False, with nothing done, where values are missing or rows are of one moment, which has to be told apart
    point by point."""
    places, sizes, times, values = points
    stretch = np.repeat(np.arange(len(sizes)), sizes)
    same = stretch[1:] == stretch[:-1]
    if (same & (times[1:] == times[:-1])).any() or np.isnan(values).any():
        return False
    index = steps.index(times)
    edges = np.flatnonzero(np.concatenate([np.ones(min(1, len(times)), bool), ~same | (index[1:] != index[:-1])]))
    ends = np.append(edges[1:], len(times))[: len(edges)]
    where = places[stretch[edges]] * steps.count + index[edges, None]
    alone = len(edges) == len(times)
    for name, how in (("low", np.minimum), ("high", np.maximum), ("total", np.add)):
        if name in fields:
            getattr(out, name).reshape(-1)[where] = values if alone else how.reduceat(values, edges)
    out.count.reshape(-1)[where] = (ends - edges)[:, None]
    if "last" in fields:
        out.last.reshape(-1)[where] = values[ends - 1]
    return True


def coarser(summary: Summary, factor: int) -> Summary:
    """The same with every `factor` steps put into one. The number of steps must be a multiple of it."""
    if factor == 1:
        return summary
    rows, count = summary.count.shape
    shape = (rows, count // factor, factor)
    with np.errstate(invalid="ignore"):
        have = summary.count.reshape(shape) > 0
        newest = factor - 1 - np.argmax(have[:, :, ::-1], axis=2)
        return Summary(
            np.fmin.reduce(summary.low.reshape(shape), axis=2),
            np.fmax.reduce(summary.high.reshape(shape), axis=2),
            summary.total.reshape(shape).sum(axis=2),
            summary.count.reshape(shape).sum(axis=2),
            np.take_along_axis(summary.last.reshape(shape), newest[:, :, None], axis=2)[:, :, 0],
            summary.grown.reshape(shape).sum(axis=2),
            summary.seen.reshape(shape).sum(axis=2),
        )
