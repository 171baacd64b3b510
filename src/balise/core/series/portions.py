"""Doing much a portion at a time."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

I64 = NDArray[np.int64]


def in_weight(rows: I64, weights: I64, most: int) -> Iterator[I64]:
    """Rows in order, as many at a time as weigh no more than `most` together, at least one."""
    reached = np.cumsum(weights[rows])
    low = 0
    while low < len(rows):
        before = int(reached[low - 1]) if low else 0
        high = max(low + 1, int(np.searchsorted(reached, before + most, side="right")))
        yield rows[low:high]
        low = high


def apart(values: I64) -> Iterator[tuple[int, I64]]:
    """Each value, ascending, with the places where it stands."""
    order = np.argsort(values, kind="stable")
    held = values[order]
    starts = np.flatnonzero(np.diff(held, prepend=held[:1] - 1))
    ends = np.append(starts[1:], len(held))
    for value, start, end in zip(held[starts].tolist(), starts.tolist(), ends.tolist(), strict=True):
        yield value, order[start:end]
