"""Numbers in the order they came, four bytes each."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

I64 = NDArray[np.int64]


class Numbers:
    """Grows at its end. Written by one thread at a time, read by any."""

    __slots__ = ("_count", "_held")

    def __init__(self) -> None:
        self._held = np.empty(0, np.int32)
        self._count = 0

    def __len__(self) -> int:
        return self._count

    def __iter__(self) -> Iterator[int]:
        return iter(self._held[: self._count].tolist())

    def since(self, place: int) -> list[int]:
        """Those from a place on."""
        found: list[int] = self._held[place : self._count].tolist()
        return found

    def append(self, number: int) -> None:
        self.extend(np.array([number]))

    def extend(self, numbers: I64) -> None:
        end = self._count + len(numbers)
        if end > len(self._held):
            self._held = np.concatenate([self._held[: self._count], np.zeros(end // 4 + len(numbers) + 8, np.int32)])
        self._held[self._count : end] = numbers
        self._count = end

    def remove(self, gone: I64) -> bool:
        """Takes some out; answers whether any was there."""
        kept = self._held[: self._count]
        left = kept[~np.isin(kept, gone)]
        found = len(left) < len(kept)
        self._count = min(self._count, len(left))
        self._held = left
        return found
