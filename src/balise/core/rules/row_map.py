"""Which row a number has: eight bytes for each that has one, however large the numbers are."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

I32 = NDArray[np.int32]
I64 = NDArray[np.int64]
NONE = -1


class RowMap:
    """Numbers with their rows. New ones are larger than all before most of the time, and cost least then."""

    def __init__(self) -> None:
        self._numbers = np.empty(0, np.int32)
        self._rows = np.empty(0, np.int32)
        self._count = 0

    def rows(self, numbers: I64) -> I64:
        """The row of each, -1 for none."""
        if not self._count:
            return np.full(len(numbers), NONE, np.int64)
        held = self._numbers[: self._count]
        # Of another type than what is looked for, all that is held would be copied first.
        at = np.minimum(held.searchsorted(numbers.astype(np.int32)), self._count - 1)
        return np.where(held[at] == numbers, self._rows[at], NONE).astype(np.int64)

    def add(self, numbers: I64, rows: I64) -> None:
        """Numbers that have no row yet, each once."""
        order = np.argsort(numbers, kind="stable")
        numbers, rows = numbers[order], rows[order]
        end = self._count + len(numbers)
        if not len(numbers):
            return
        if self._count and numbers[0] < self._numbers[self._count - 1]:
            numbers = np.concatenate([self._numbers[: self._count], numbers])
            rows = np.concatenate([self._rows[: self._count], rows])
            order = np.argsort(numbers, kind="stable")
            self._numbers, self._rows = numbers[order].astype(np.int32), rows[order].astype(np.int32)
        else:
            if end > len(self._numbers):
                more = np.zeros(end // 8 + len(numbers) + 64, np.int32)
                self._numbers = np.concatenate([self._numbers[: self._count], more])
                self._rows = np.concatenate([self._rows[: self._count], more])
            self._numbers[self._count : end], self._rows[self._count : end] = numbers, rows
        self._count = end
