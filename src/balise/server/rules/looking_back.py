"""What the store has of series for windows that begin: for growth also the points before them, however far back."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from balise.core.moments import NS
from balise.store.series.reader import Reader
from balise.store.series.recent import Points, in_order, together

I64 = NDArray[np.int64]
Mask = NDArray[np.bool_]
POINTS_BEFORE = 4
"""Of each series, before its window."""
NEAR = 300 * NS
"""How far before windows is looked first. Most series have their points before them there; of a fleet's that grow the
whole hour would be a hundred times as many."""
FURTHER = 4
"""So many times as far is looked next, for those that have too few there."""


def look_back(reader: Reader, series: I64, *, windows: int, far: int, grows: Mask) -> Points:
    """All points of series since the earliest of their windows begins, in order, and of those that grow the last ones
    before it, or all since `far`.

    Args:
        series: ascending, each once, [n]; `grows` says which of them grow.
        windows, far: unix nanoseconds.
    """
    near = max(far, windows - NEAR)
    found = reader.since(series, near)
    while near > far and grows.any():
        rows, times, _ = found
        before = np.bincount(rows[times < windows], minlength=len(series))
        few = np.flatnonzero(grows & (before < POINTS_BEFORE))
        if not len(few):
            break
        until, near = near, max(far, windows - FURTHER * (windows - near))
        rows, times, values = reader.since(series[few], near, until)
        found = together([(few[rows], times, values), found])
    return in_order(found)
