"""Summing series up in steps of time, and putting several series together.

Arrays are [series, steps] throughout; a step without points has `count` 0 and NaN elsewhere.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from balise.api.metrics import Take
from balise.core.series.wire import PointKind

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]

NS = 1_000_000_000
TierName = Literal["raw", "5m", "1h"]
TIER_SECONDS: dict[TierName, int] = {"5m": 300, "1h": 3600}
SHORTEST_CHOSEN = 15.0
"""Seconds: no narrower step is chosen by itself, because hosts are read every 15 s."""
NICE_STEPS = (15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 10800, 21600, 43200, 86400)


@dataclass(frozen=True)
class Steps:
    """`count` stretches of `width` nanoseconds from `start` on."""

    start: int
    width: int
    count: int

    @property
    def end(self) -> int:
        return self.start + self.width * self.count

    def index(self, times: I64) -> I64:
        return (times - self.start) // self.width


def steps_between(start: float, end: float, *, step: float | None, points: int | None) -> Steps:
    """Steps that cover [start, end), unix seconds, aligned to their own width.

    Without `step` the narrowest even width is taken that gives at most `points` (300) steps.
    """
    if step is None:
        wanted = max((end - start) / (points or 300), SHORTEST_CHOSEN)
        step = next((s for s in NICE_STEPS if s >= wanted), float(-(-int(wanted) // 86400) * 86400))
    width = max(1, round(step * NS))
    first = int(start * NS) // width * width
    count = max(1, -(-(int(end * NS) - first) // width))
    return Steps(first, width, count)


@dataclass(frozen=True)
class Summary:
    """What happened in each step. All float64 [series, steps]."""

    low: F64
    high: F64
    total: F64
    count: F64
    last: F64

    @staticmethod
    def empty(series: int, steps: int) -> Summary:
        gap = np.full((series, steps), np.nan)
        return Summary(gap, gap.copy(), np.zeros((series, steps)), np.zeros((series, steps)), gap.copy())

    def rows(self, chosen: NDArray[np.intp] | slice) -> Summary:
        return Summary(self.low[chosen], self.high[chosen], self.total[chosen], self.count[chosen], self.last[chosen])

    def merge(self, rows: NDArray[np.intp], steps: NDArray[np.intp] | slice, other: Summary, *, later: bool) -> None:
        """Adds `other`, whose rows and steps are the given ones of this; `later` says whose `last` counts."""
        place = np.ix_(rows, steps) if not isinstance(steps, slice) else (rows, steps)
        mine = self.count[place] > 0
        theirs = other.count > 0
        self.low[place] = np.fmin(self.low[place], other.low)
        self.high[place] = np.fmax(self.high[place], other.high)
        self.total[place] += other.total
        self.count[place] += other.count
        take = theirs if later else theirs & ~mine
        self.last[place] = np.where(take, other.last, self.last[place])


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
    for row in np.flatnonzero(holes.any(axis=1)):
        good = np.flatnonzero(~holes[row])
        out.last[row, index[good]] = part[row, good]
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
        good = ~np.isnan(values)
        return Flat(rows, times, values) if good.all() else Flat(rows[good], times[good], values[good])

    def within(self, steps: Steps) -> tuple[NDArray[np.bool_], I64]:
        """Which points lie in the steps, and for those the place row x step."""
        inside = (self.times >= steps.start) & (self.times < steps.end)
        return inside, self.rows[inside] * steps.count + steps.index(self.times[inside])


def summarise_flat(points: Flat, series: int, steps: Steps) -> Summary:
    """Sums up many series of different times at once."""
    out = Summary.empty(series, steps.count)
    inside, place = points.within(steps)
    if not len(place):
        return out
    values = points.values[inside]
    edges = np.flatnonzero(np.diff(place, prepend=-1))
    where = place[edges]
    ends = np.append(edges[1:], len(place))
    out.low.reshape(-1)[where] = np.minimum.reduceat(values, edges)
    out.high.reshape(-1)[where] = np.maximum.reduceat(values, edges)
    out.total.reshape(-1)[where] = np.add.reduceat(values, edges)
    out.count.reshape(-1)[where] = ends - edges
    out.last.reshape(-1)[where] = values[ends - 1]
    return out


def increases_flat(points: Flat, kinds: Sequence[PointKind], steps: Steps) -> tuple[F64, F64]:
    """Growth within each step and the seconds over which it was seen, both [series, steps].

    A counter that falls was reset, so what it shows is what it grew by. The points may begin before the first
    step: the point before it is where the first growth starts. A delta grows by what it says, over the step.
    """
    grown = np.zeros((len(kinds), steps.count))
    seen = np.zeros_like(grown)
    if not len(points.rows):
        return grown, seen
    counter = np.array([k == "counter" for k in kinds])[points.rows]
    delta = np.array([k == "delta" for k in kinds])[points.rows]
    change = np.diff(points.values, prepend=0.0)
    pace = np.diff(points.times, prepend=0) / NS
    joined = np.diff(points.rows, prepend=-1) == 0
    change = np.where(counter & (change < 0), points.values, change)
    change = np.where(delta, points.values, np.where(joined, change, 0.0))
    inside, place = points.within(steps)
    size = grown.size
    seconds_seen = np.where(delta, 0.0, np.where(joined, pace, 0.0))[inside]
    grown = np.asarray(np.bincount(place, change[inside], size), np.float64).reshape(grown.shape)
    seen = np.asarray(np.bincount(place, seconds_seen, size), np.float64).reshape(seen.shape)
    told = np.bincount(place[delta[inside]], minlength=size).reshape(seen.shape) > 0
    return grown, np.where(told, steps.width / NS, seen)


def increases_of_summary(summary: Summary, kind: PointKind, width_seconds: float) -> tuple[F64, F64]:
    """`increases` for series that are only known by their steps: from each step's last value to the next."""
    if kind == "delta":
        return summary.total, np.where(summary.count > 0, width_seconds, 0.0)
    grown = np.zeros_like(summary.last)
    seen = np.zeros_like(summary.last)
    for row in range(len(summary.last)):
        have = np.flatnonzero(summary.count[row] > 0)
        if len(have) < 2:
            continue
        values = summary.last[row, have]
        change = np.diff(values)
        if kind == "counter":
            change = np.where(change < 0, values[1:], change)
        grown[row, have[1:]] = change
        seen[row, have[1:]] = np.diff(have) * width_seconds
    return grown, seen


def coarser(summary: Summary, factor: int) -> Summary:
    """The same with every `factor` steps put into one. The number of steps must be a multiple of it."""
    if factor == 1:
        return summary
    rows, count = summary.count.shape
    shape = (rows, count // factor, factor)
    with np.errstate(invalid="ignore"):
        last = summary.last.reshape(shape)
        have = summary.count.reshape(shape) > 0
        newest = factor - 1 - np.argmax(have[:, :, ::-1], axis=2)
        return Summary(
            np.fmin.reduce(summary.low.reshape(shape), axis=2),
            np.fmax.reduce(summary.high.reshape(shape), axis=2),
            summary.total.reshape(shape).sum(axis=2),
            summary.count.reshape(shape).sum(axis=2),
            np.take_along_axis(last, newest[:, :, None], axis=2)[:, :, 0],
        )


def _by_group(values: F64, groups: I64, how: np.ufunc) -> F64:
    """Rows of one group put together: [series, steps] to [groups, steps]. `groups` is [series], from 0 up."""
    order = np.argsort(groups, kind="stable")
    edges = np.flatnonzero(np.diff(groups[order], prepend=-1))
    out: F64 = how.reduceat(values[order], edges, axis=0)
    return out


def combine(summary: Summary, kinds: Sequence[PointKind], groups: I64, take: Take) -> F64:
    """One line for each group, [groups, steps].

    `avg` is the mean of all points; `sum` adds the series up, each with its mean in the step (a delta series
    with its total); `last` is the newest value, the highest of them where a group holds several series.
    """
    if not len(groups):
        return np.empty((0, summary.count.shape[1]))
    count = _by_group(summary.count, groups, np.add)
    with np.errstate(invalid="ignore", divide="ignore"):
        if take == "count":
            return np.where(count > 0, count, np.nan)
        if take == "min":
            return _by_group(summary.low, groups, np.fmin)
        if take == "max":
            return _by_group(summary.high, groups, np.fmax)
        if take == "last":
            return _by_group(summary.last, groups, np.fmax)
        if take == "sum":
            is_delta = np.array([k == "delta" for k in kinds])[:, None]
            level = np.where(is_delta, summary.total, summary.total / summary.count)
            added = _by_group(np.where(summary.count > 0, level, 0.0), groups, np.add)
            return np.where(count > 0, added, np.nan)
        return _by_group(summary.total, groups, np.add) / count


def combine_rates(grown: F64, seen: F64, groups: I64) -> F64:
    """Growth a second of each group: its series' rates added up, [groups, steps]."""
    if not len(groups):
        return np.empty((0, grown.shape[1]))
    with np.errstate(invalid="ignore", divide="ignore"):
        rate = np.where(seen > 0, grown / seen, 0.0)
    known = _by_group((seen > 0).astype(np.float64), groups, np.add) > 0
    return np.where(known, _by_group(rate, groups, np.add), np.nan)


def point_percentiles(
    pieces: Sequence[tuple[I64, F64]], groups: I64, group_count: int, steps: Steps, quantile: float
) -> F64:
    """Percentiles of all points of a group in each step, linear between neighbours, [groups, steps].

    Args:
        pieces: for each series its times [n] and values [n].
    """
    out = np.full((group_count, steps.count), np.nan)
    for group in range(group_count):
        mine = [pieces[i] for i in np.flatnonzero(groups == group).tolist()]
        times = np.concatenate([t for t, _ in mine]) if mine else np.empty(0, np.int64)
        values = np.concatenate([v for _, v in mine]) if mine else np.empty(0)
        inside = (times >= steps.start) & (times < steps.end) & ~np.isnan(values)
        if not inside.any():
            continue
        index, values = steps.index(times[inside]), values[inside]
        order = np.lexsort((values, index))
        index, values = index[order], values[order]
        edges = np.flatnonzero(np.diff(index, prepend=index[0] - 1))
        sizes = np.diff(edges, append=len(index))
        place = (sizes - 1) * quantile
        below = np.floor(place).astype(np.int64)
        above = np.minimum(below + 1, sizes - 1)
        low, high = values[edges + below], values[edges + above]
        out[group, index[edges]] = low + (high - low) * (place - below)
    return out


def bucket_percentiles(bounds: F64, counts: F64, quantile: float) -> F64:
    """Percentiles out of histogram buckets, linear within a bucket, [steps].

    Args:
        bounds: upper bounds, ascending, the last may be infinite [buckets].
        counts: how many fell into each bucket in each step [buckets, steps].
    """
    total = counts.sum(axis=0)
    out = np.full(counts.shape[1], np.nan)
    running = np.cumsum(counts, axis=0)
    lower = np.concatenate([[min(0.0, bounds[0])], bounds[:-1]]) if len(bounds) else bounds
    for step in np.flatnonzero(total > 0):
        rank = quantile * total[step]
        bucket = int(np.searchsorted(running[:, step], rank, side="left"))
        bucket = min(bucket, len(bounds) - 1)
        while counts[bucket, step] == 0 and bucket < len(bounds) - 1:
            bucket += 1
        low, high = lower[bucket], bounds[bucket]
        if np.isinf(high):
            out[step] = low
            continue
        before = running[bucket, step] - counts[bucket, step]
        out[step] = low + (high - low) * (rank - before) / max(counts[bucket, step], 1e-12)
    return out
