"""The series of one host, by what tells them apart."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

I32 = NDArray[np.int32]
I64 = NDArray[np.int64]
FRESH = 64
"""How many single ones wait before they are put in order."""


def key_of(metric: int, trait: int) -> int:
    return metric << 32 | trait


class OwnSeries:
    """Numbers by key, 12 bytes each. Written under the catalogue's lock, read by any thread."""

    __slots__ = ("_fresh", "_sorted")

    def __init__(self) -> None:
        self._sorted: tuple[I64, I32] = (np.empty(0, np.int64), np.empty(0, np.int32))
        self._fresh: dict[int, int] = {}

    def __len__(self) -> int:
        return len(self._fresh) + len(self._sorted[0])

    def find(self, key: int) -> int | None:
        """The number of a key."""
        # Those that wait are looked at first: what leaves them is in order by then.
        found = self._fresh.get(key)
        if found is None:
            keys, numbers = self._sorted
            at = int(np.searchsorted(keys, key))
            if at < len(keys) and keys[at] == key:
                found = int(numbers[at])
        return found

    def find_many(self, wanted: I64) -> I64:
        """The numbers of these keys, -1 where there is none."""
        self._settle()
        keys, numbers = self._sorted
        if not len(keys):
            return np.full(len(wanted), -1, np.int64)
        at = np.minimum(np.searchsorted(keys, wanted), len(keys) - 1)
        return np.where(keys[at] == wanted, numbers[at].astype(np.int64), -1)

    def add(self, key: int, number: int) -> None:
        self._fresh[key] = number
        if len(self._fresh) > FRESH + len(self._sorted[0]) // 8:
            self._settle()

    def add_many(self, keys: I64, numbers: I64) -> None:
        """New ones, each key once, ascending."""
        self._settle()
        if not len(self._sorted[0]):
            self._sorted = (keys, numbers.astype(np.int32))
            return
        together = np.concatenate([self._sorted[0], keys])
        order = np.argsort(together, kind="stable")
        self._sorted = (together[order], np.concatenate([self._sorted[1], numbers.astype(np.int32)])[order])

    def forget(self, gone: I64) -> None:
        self._settle()
        keys, numbers = self._sorted
        left = ~np.isin(numbers, gone)
        self._sorted = (keys[left], numbers[left])

    def numbers(self) -> list[int]:
        _, numbers = self._sorted
        return sorted({*self._fresh.values(), *numbers.tolist()})

    def metrics(self) -> set[int]:
        keys, _ = self._sorted
        return {*np.unique(keys >> 32).tolist(), *(key >> 32 for key in self._fresh)}

    def of_metric(self, metric: int) -> list[int]:
        """The numbers of the series of a metric, in the order they came."""
        low = key_of(metric, 0)
        fresh = [number for key, number in list(self._fresh.items()) if key >> 32 == metric]
        keys, numbers = self._sorted
        found = numbers[keys.searchsorted(low) : keys.searchsorted(low + (1 << 32))].tolist()
        return sorted({*fresh, *found})

    def _settle(self) -> None:
        if self._fresh:
            fresh = dict(self._fresh)
            keys = np.concatenate([self._sorted[0], np.fromiter(fresh, np.int64, len(fresh))])
            numbers = np.concatenate([self._sorted[1], np.fromiter(fresh.values(), np.int32, len(fresh))])
            order = np.argsort(keys, kind="stable")
            self._sorted = (keys[order], numbers[order])
            self._fresh = {}
