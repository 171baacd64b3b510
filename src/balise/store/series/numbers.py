"""Numbers in the order they came, four bytes each."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

I32 = NDArray[np.int32]
I64 = NDArray[np.int64]
LOOSE, PIECES = 256, 16
"""Runs that wait in one piece, and pieces, before they are put behind the others."""
ONE = np.zeros(1, np.int64)


class Numbers:
    """Grows at its end. Written by one thread at a time, read by any."""

    __slots__ = ("_held",)

    def __init__(self) -> None:
        self._held = _Held(np.empty(0, np.int32), 0)

    def __len__(self) -> int:
        return self._held.count + sum(len(places) * len(firsts) for places, firsts in self._held.pieces)

    def __iter__(self) -> Iterator[int]:
        return iter(self.since(0).tolist())

    def since(self, place: int) -> I64:
        """Those from a place on."""
        return self._held.since(place).astype(np.int64)

    def append(self, number: int) -> None:
        self.extend(number, ONE)

    def extend(self, first: int, places: I64) -> None:
        """Numbers at these places [n], counted from the first."""
        held = self._held
        if not held.pieces or held.pieces[-1][0] is not places:
            held.pieces.append((places, []))
        held.pieces[-1][1].append(first)
        self._settle()

    def follow(self, firsts: list[int], places: I64) -> None:
        """Numbers at these places [n], counted from each of some firsts. Others may follow the same, and whoever has
        them may add to them until anything else is done here."""
        self._settle()
        self._held.pieces.append((places, firsts))

    def _settle(self) -> None:
        pieces = self._held.pieces
        if pieces and (len(pieces) >= PIECES or len(pieces[-1][1]) >= LOOSE):
            self._held = self._held.settled()

    def remove(self, gone: I64) -> bool:
        """Takes some out; answers whether any was there."""
        kept = self._held.since(0)
        left = kept[~np.isin(kept, gone)]
        self._held = _Held(left, len(left))
        return len(left) < len(kept)


class _Held:
    """`count` numbers in order, and runs that came after them, each the same places counted from several firsts;
    whoever reads takes those that are there by then."""

    __slots__ = ("count", "numbers", "pieces")

    def __init__(self, numbers: I32, count: int) -> None:
        self.numbers = numbers
        self.count = count
        self.pieces: list[tuple[I64, list[int]]] = []

    def since(self, place: int) -> I32:
        held = self.numbers[min(place, self.count) : self.count]
        if not self.pieces:
            return held
        return np.concatenate([held, self._fresh()[max(0, place - self.count) :]])

    def _fresh(self) -> I32:
        """What came after those in order."""
        runs = [np.add.outer(np.array(firsts, np.int64), places).ravel() for places, firsts in list(self.pieces)]
        return np.concatenate(runs).astype(np.int32)

    def settled(self) -> _Held:
        """With the pieces behind the others; what was there stays for those who read it."""
        fresh = self._fresh()
        end = self.count + len(fresh)
        numbers = self.numbers
        if end > len(numbers):
            numbers = np.concatenate([numbers[: self.count], np.zeros(end // 4 + len(fresh) + 8, np.int32)])
        numbers[self.count : end] = fresh
        return _Held(numbers, end)
