"""Medians and other quantiles of many lines at once, of what there is of each: numpy's own go line by line then."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

F64 = NDArray[np.float64]


def median(values: F64) -> F64:
    """The median of what is there of each line, [lines] of [lines, n]; NaN of nothing."""
    return quantiles(values, (0.5,))[0]


def quantiles(values: F64, shares: Sequence[float]) -> list[F64]:
    """Of each line what so many of its values are below, [lines] a share; between two values in proportion.

    `quantiles(np.array([[3.0, np.nan, 1.0, 2.0]]), (0, 0.5, 0.75)) == [[1.0], [2.0], [2.5]]`
    """
    count = (~np.isnan(values)).sum(axis=1)
    if not values.shape[1]:
        return [np.full(len(values), np.nan) for _ in shares]
    ordered = np.sort(values, axis=1)
    rows = np.arange(len(values))
    last = np.maximum(count - 1, 0)
    found = []
    for share in shares:
        place = last * share
        low = np.floor(place).astype(np.int64)
        lower, upper = ordered[rows, low], ordered[rows, np.minimum(low + 1, last)]
        with np.errstate(invalid="ignore"):
            between = lower + (upper - lower) * (place - low)
        # What is on a value is it, however far the next one is; and of two that are alike there is nothing between.
        found.append(np.where((place == low) | (lower == upper), lower, between))
    return found
