"""Doing much a portion at a time."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

I64 = NDArray[np.int64]
FEW = 8
"""Where fewer than one in so many numbers up to the largest is there, they are sorted instead of counted."""


def has_any(mask: NDArray[np.bool_]) -> bool:
    """Whether any of a few marks is set; other threads are not let in for it, as they are by numpy's own."""
    return b"\1" in mask.tobytes()


def in_weight(rows: I64, weights: I64, most: int) -> Iterator[I64]:
    """Rows in order, as many at a time as weigh no more than `most` together, at least one."""
    reached = np.cumsum(weights[rows])
    low = 0
    while low < len(rows):
        before = int(reached[low - 1]) if low else 0
        high = max(low + 1, int(np.searchsorted(reached, before + most, side="right")))
        yield rows[low:high]
        low = high


def distinct(groups: I64) -> tuple[I64, I64]:
    """Numbers from 0 up, [n], each once, ascending, and the place of each of the n among those."""
    if len(groups) * FEW < int(groups.max(initial=-1)):
        present, places = np.unique(groups, return_inverse=True)
        return present, places.astype(np.int64)
    there = np.bincount(groups) > 0
    present = np.flatnonzero(there)
    return present, groups if len(present) == len(there) else (np.cumsum(there) - 1)[groups]


def apart(values: I64) -> Iterator[tuple[int, I64]]:
    """Each value, ascending, with the places where it stands."""
    order = np.argsort(values, kind="stable")
    held = values[order]
    starts = np.flatnonzero(np.diff(held, prepend=held[:1] - 1))
    ends = np.append(starts[1:], len(held))
    for value, start, end in zip(held[starts].tolist(), starts.tolist(), ends.tolist(), strict=True):
        yield value, order[start:end]
