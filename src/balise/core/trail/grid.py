"""Points of many series on the steps of one grid: means of gauges, rates of what is counted."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from balise.core.moments import NS, seconds_of
from balise.core.series.growth import increases
from balise.core.series.steps import NICE_STEPS, Steps
from balise.core.series.summary import Flat
from balise.core.series.wire import PointKind

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
MOST_STEPS = 480
_WIDEST_HOLD = 300 * NS
"""How far apart a series' points may be for each to stand until the next; what is farther apart has gaps."""


def spacing_of(points: Flat, series: int) -> I64:
    """How far apart the points of each series mostly are, nanoseconds [series]; 0 for fewer than two."""
    found = np.zeros(series, np.int64)
    if len(points.rows) < 2:
        return found
    same = np.diff(points.rows) == 0
    rows, gaps = points.rows[1:][same], np.diff(points.times)[same]
    order = np.lexsort((gaps, rows))
    rows, gaps = rows[order], gaps[order]
    edges = np.flatnonzero(np.diff(rows, prepend=-1))
    counts = np.diff(edges, append=len(rows))
    found[rows[edges]] = gaps[edges + counts // 2]
    return found


def width_of(spacing: I64, length: float) -> float:
    """Seconds of a step: as the points mostly come, and so that a stretch of `length` seconds has not too many."""
    known = spacing[spacing > 0]
    usual = float(np.median(known)) / NS if len(known) else float(NICE_STEPS[0])
    least = max(usual * 0.9, length / MOST_STEPS, NICE_STEPS[0])
    return float(next((step for step in NICE_STEPS if step >= least), NICE_STEPS[-1]))


def on_grid(points: Flat, kinds: Sequence[PointKind], steps: Steps) -> F64:
    """Means of gauges and growth a second of the others, [series, steps], NaN where there is nothing.

    A series whose points come less often than the steps stands until its next point.
    """
    series = len(kinds)
    gauge = np.array([kind == "gauge" for kind in kinds], bool)
    inside, place = points.within(steps)
    size = series * steps.count
    with np.errstate(invalid="ignore", divide="ignore"):
        total = np.bincount(place, points.values[inside], minlength=size)[:size]
        means = (total / np.bincount(place, minlength=size)[:size]).reshape(series, steps.count)
        grown, seen = increases(points, kinds, steps)
        rates = np.where(seen > 0, grown / seen, np.nan)
    return _held(np.where(gauge[:, None], means, rates), spacing_of(points, series), steps)


def _held(values: F64, spacing: I64, steps: Steps) -> F64:
    """The same with what stands until the next point filled in."""
    longest = np.where(spacing <= _WIDEST_HOLD, -(-spacing // steps.width) - 1, 0)
    if not longest.max(initial=0):
        return values
    known = ~np.isnan(values)
    last = np.maximum.accumulate(np.where(known, np.arange(steps.count), -1), axis=1)
    age = np.arange(steps.count) - last
    held = np.take_along_axis(values, np.maximum(last, 0), axis=1)
    return np.where(known, values, np.where((last >= 0) & (age <= longest[:, None]), held, np.nan))


def times_of(steps: Steps) -> F64:
    """Where steps begin, unix seconds [steps]."""
    found: F64 = seconds_of(steps.start) + np.arange(steps.count, dtype=np.float64) * seconds_of(steps.width)
    return found
