"""Numbers in the order they came, four bytes each."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

I32 = NDArray[np.int32]
I64 = NDArray[np.int64]
LOOSE = 64
"""Pieces that wait before they are put behind the others."""


class Numbers:
    """Grows at its end. Written by one thread at a time, read by any."""

    __slots__ = ("_held",)

    def __init__(self) -> None:
        self._held = _Held(np.empty(0, np.int32), 0)

    def __len__(self) -> int:
        return self._held.count + self._held.loose

    def __iter__(self) -> Iterator[int]:
        return iter(self.since(0))

    def since(self, place: int) -> list[int]:
        """Those from a place on."""
        found: list[int] = self._held.since(place).tolist()
        return found

    def append(self, number: int) -> None:
        self.extend(np.array([number]))

    def extend(self, numbers: I64) -> None:
        held = self._held
        held.pieces.append(numbers)
        held.loose += len(numbers)
        if len(held.pieces) >= LOOSE:
            self._held = held.settled()

    def remove(self, gone: I64) -> bool:
        """Takes some out; answers whether any was there."""
        kept = self._held.since(0)
        left = kept[~np.isin(kept, gone)]
        self._held = _Held(left, len(left))
        return len(left) < len(kept)


class _Held:
    """`count` numbers in order, and pieces that came after them; whoever reads takes those that are there by then."""

    __slots__ = ("count", "loose", "numbers", "pieces")

    def __init__(self, numbers: I32, count: int) -> None:
        self.numbers = numbers
        self.count = count
        self.pieces: list[I64] = []
        self.loose = 0

    def since(self, place: int) -> I32:
        pieces = list(self.pieces)
        held = self.numbers[min(place, self.count) : self.count]
        if not pieces:
            return held
        return np.concatenate([held, *pieces])[max(0, place - self.count) :].astype(np.int32)

    def settled(self) -> _Held:
        """With the pieces behind the others; what was there stays for those who read it."""
        fresh = np.concatenate(self.pieces)
        end = self.count + len(fresh)
        numbers = self.numbers
        if end > len(numbers):
            numbers = np.concatenate([numbers[: self.count], np.zeros(end // 4 + len(fresh) + 8, np.int32)])
        numbers[self.count : end] = fresh
        return _Held(numbers, end)
