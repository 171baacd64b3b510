"""What series grew by, through resets and gaps.

Growth belongs to the step of the later of two points. A counter that falls was reset: what it shows is what it grew
by. Across a gap longer than `MAX_GAP` nobody knows when it grew, so it is not counted; the same everywhere, whatever
the span that is asked for. Deltas grow by what they say, over the whole step.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from balise.core.moments import NS, seconds_of
from balise.core.series.steps import Steps
from balise.core.series.summary import Flat, Summary, summarise_flat
from balise.core.series.wire import PointKind

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
_LARGE = 1e300
_ROUNDED = 32 * np.finfo(np.float64).eps
"""Of a value, what adding up a step's changes may lose of it."""
MAX_GAP = 3600 * NS
"""How far apart two points may be for the growth between them to be known."""


@dataclass(frozen=True)
class Before:
    """The point before the first of each series: `times` nanoseconds [series], `values` [series], NaN for none."""

    times: I64
    values: F64

    @staticmethod
    def nothing(series: int) -> Before:
        return Before(np.zeros(series, np.int64), np.full(series, np.nan))


def increases(points: Flat, kinds: Sequence[PointKind], steps: Steps) -> tuple[F64, F64]:
    """Growth within each step and the seconds over which it was seen, both [series, steps].

    The points may begin before the first step: the point before it is where the first growth starts.
    """
    grown = np.zeros((len(kinds), steps.count))
    if not len(points.rows):
        return grown, grown.copy()
    counter = np.array([k == "counter" for k in kinds])[points.rows]
    delta = np.array([k == "delta" for k in kinds])[points.rows]
    with np.errstate(over="ignore", invalid="ignore"):
        change = np.diff(points.values, prepend=0.0)
    gap = np.diff(points.times, prepend=0)
    change = np.where(counter & (change < 0), points.values, change)
    known = (np.diff(points.rows, prepend=-1) == 0) & (gap <= MAX_GAP) & np.isfinite(change)
    change = np.where(delta, points.values, np.where(known, change, 0.0))
    inside, place = points.within(steps)
    size = grown.size
    pace = np.where(known & ~delta, gap / NS, 0.0)[inside]
    grown = np.asarray(np.bincount(place, change[inside], size), np.float64).reshape(grown.shape)
    seen = np.asarray(np.bincount(place, pace, size), np.float64).reshape(grown.shape)
    told = np.bincount(place[delta[inside]], minlength=size).reshape(seen.shape) > 0
    return grown, np.where(told, seconds_of(steps.width), seen)


def add_growth(
    summary: Summary, times: I64, values: F64, steps: Steps, kinds: Sequence[PointKind], before: Before
) -> None:
    """Fills `grown` and `seen` of series that share their times (but for deltas).

    Args:
        summary: of these points and steps.
        times: ascending nanoseconds [n]; those before the first step are where growth starts.
        values: float64 [series, n].
        before: what came before the first of these points.
    """
    lo, hi = np.searchsorted(times, [steps.start, steps.end])
    if lo == hi or not len(values):
        return
    delta = np.array([k == "delta" for k in kinds])
    counter = np.array([k == "counter" for k in kinds])
    part = values[:, lo:hi]
    start_times = np.full(len(values), times[lo - 1]) if lo else before.times
    start_values = values[:, lo - 1] if lo else before.values
    with np.errstate(over="ignore", invalid="ignore"):
        change = np.diff(part, axis=1, prepend=start_values[:, None])
    change = np.where(counter[:, None] & (change < 0), part, change)
    gaps = np.diff(times[lo:hi], prepend=times[lo])
    first = times[lo] - start_times
    joined = np.isfinite(start_values) & (first <= MAX_GAP)
    change[~joined, 0] = 0.0
    change[:, gaps > MAX_GAP] = 0.0
    clean = np.isfinite(change).all(axis=1) & np.isfinite(part).all(axis=1)
    if lo:
        clean &= np.isfinite(start_values)
    index = steps.index(times[lo:hi])
    edges = np.flatnonzero(np.diff(index, prepend=index[0] - 1))
    where = index[edges]
    usable = np.where(gaps <= MAX_GAP, gaps, 0) / NS
    seen = np.broadcast_to(np.add.reduceat(usable, edges), (len(values), len(edges))).copy()
    seen[:, 0] += np.where(joined, first / NS, 0.0)
    fill = clean & ~delta
    summary.grown[np.ix_(fill, where)] = np.add.reduceat(change[fill], edges, axis=1)
    summary.seen[np.ix_(fill, where)] = seen[fill]
    for row in np.flatnonzero(~clean & ~delta).tolist():
        own_times = np.concatenate([before.times[row : row + 1], times])
        own_values = np.concatenate([before.values[row : row + 1], values[row]])
        grown, over = increases(Flat.of([(own_times, own_values)]), [kinds[row]], steps)
        summary.grown[row], summary.seen[row] = grown[0], over[0]


def told_growth(summary: Summary, delta: NDArray[np.bool_], width_seconds: float) -> tuple[F64, F64]:
    """`increases` of series that are known by their steps; `delta` [series] says which are deltas."""
    told = np.where(summary.count > 0, width_seconds, 0.0)
    is_delta = delta[:, None]
    return np.where(is_delta, summary.total, summary.grown), np.where(is_delta, told, summary.seen)


def plain_growth(last: F64, count: F64, seen: F64) -> F64:
    """What the last values of steps alone say of growth, [series, steps]: from each step with points to the next.

    Only where growth was `seen`; 0 at the first, and where values are too large to be told apart from it.
    """
    have = count > 0
    steps = np.arange(last.shape[1])
    newest = np.maximum.accumulate(np.where(have, steps, -1), axis=1)
    before = np.concatenate([np.full((len(last), 1), -1), newest[:, :-1]], axis=1)
    known = have & (seen > 0) & (before >= 0)
    with np.errstate(over="ignore", invalid="ignore"):
        change = last - np.take_along_axis(last, np.maximum(before, 0), axis=1)
        return np.where(known & (np.abs(change) < _LARGE), change, 0.0)


def extra_growth(last: F64, count: F64, seen: F64, grown: F64) -> F64:
    """What `grown` is beyond `plain_growth`, [series, steps]: nothing where nothing was reset, whatever was rounded."""
    extra = grown - plain_growth(last, count, seen)
    with np.errstate(invalid="ignore"):
        noise = np.abs(extra) <= _ROUNDED * np.abs(last)
    return np.where(noise, 0.0, extra)


def revised(
    pieces: Sequence[tuple[I64, F64]], late: Sequence[I64], kinds: Sequence[PointKind], steps: Steps
) -> Summary:
    """The steps that late points change, summed up anew; all others are empty.

    A late point changes the step it lies in, and the one of the point after it, which grows from it now.

    Args:
        pieces: of each series all its points, the late ones among them, from `MAX_GAP` before the first step on.
        late: of each series the moments of the late ones, ascending nanoseconds.
    """
    flat = Flat.of(pieces)
    whole = summarise_flat(flat, len(pieces), steps)
    grown, seen = increases(flat, kinds, steps)
    delta = np.array([k == "delta" for k in kinds])[:, None]
    touched = np.zeros(whole.count.shape, bool)
    for row, ((every, values), moments) in enumerate(zip(pieces, late, strict=True)):
        times = every[~np.isnan(values)]
        after = np.searchsorted(times, moments, side="right")
        moments = np.concatenate([moments, times[after[after < len(times)]]])
        moments = moments[(moments >= steps.start) & (moments < steps.end)]
        touched[row, steps.index(moments)] = True
    keep = touched & (whole.count > 0)
    gap, zero = np.nan, 0.0
    return Summary(
        np.where(keep, whole.low, gap),
        np.where(keep, whole.high, gap),
        np.where(keep, whole.total, zero),
        np.where(keep, whole.count, zero),
        np.where(keep, whole.last, gap),
        np.where(keep & ~delta, grown, zero),
        np.where(keep & ~delta, seen, zero),
    )
