"""Which row a number has: eight bytes for each that has one, however large the numbers are."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from balise.core.series.portions import has_any

I32 = NDArray[np.int32]
I64 = NDArray[np.int64]
NONE = -1
FREE = np.iinfo(np.int32).max
"""What stands behind the numbers that there are: there is always one such place."""


class RowMap:
    """Numbers with their rows. New ones are larger than all before most of the time, and cost least then."""

    def __init__(self) -> None:
        self._numbers = np.full(1, FREE, np.int32)
        self._rows = np.empty(1, np.int32)
        self._count = 0

    def rows(self, numbers: I64) -> I64:
        """The row of each, -1 for none."""
        # Of another type than what is looked for, all that is held would be copied first.
        at = self._numbers.searchsorted(numbers.astype(np.int32))
        return np.where(self._numbers[at] == numbers, self._rows[at], NONE).astype(np.int64)

    def add(self, numbers: I64, rows: I64) -> None:
        """Numbers that have no row yet, each once."""
        if not len(numbers):
            return
        if has_any(numbers[1:] < numbers[:-1]):
            order = np.argsort(numbers, kind="stable")
            numbers, rows = numbers[order], rows[order]
        end = self._count + len(numbers)
        if self._count and numbers[0] < self._numbers[self._count - 1]:
            numbers = np.concatenate([self._numbers[: self._count], numbers])
            rows = np.concatenate([self._rows[: self._count], rows])
            order = np.argsort(numbers, kind="stable")
            self._numbers = np.append(numbers[order], FREE).astype(np.int32)
            self._rows = np.append(rows[order], NONE).astype(np.int32)
        else:
            if end >= len(self._numbers):
                more = np.full(end // 8 + len(numbers) + 64, FREE)
                self._numbers = np.concatenate([self._numbers[: self._count], more], dtype=np.int32)
                self._rows = np.concatenate([self._rows[: self._count], more], dtype=np.int32)
            self._numbers[self._count : end], self._rows[self._count : end] = numbers, rows
        self._count = end
