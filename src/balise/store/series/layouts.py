"""Orders in which series come together."""

from __future__ import annotations

import threading
from collections.abc import Iterable
from hashlib import blake2b

import numpy as np
from numpy.typing import NDArray

I64 = NDArray[np.int64]


class Layout:
    """An order of series, as points of one body come: `series` int64 [n], of which `largest` is that, -1 without any.
    `plain` if every series occurs once."""

    __slots__ = ("_order", "id", "largest", "plain", "series")

    def __init__(self, number: int, series: I64, *, ascending: bool = False) -> None:
        """`ascending` if it is known that each number is larger than the one before."""
        self.id = number
        self.series = series
        ascending = ascending or bool((series[1:] > series[:-1]).all())
        self.largest = int(series[-1] if ascending and len(series) else series.max(initial=-1))
        self._order = None if ascending else np.argsort(series, kind="stable").astype(np.int32)
        self.plain = ascending or bool((np.diff(series[self._order]) > 0).all())

    def key(self) -> bytes:
        """What tells it from other layouts, whatever its number."""
        return _key(self.series)

    def columns(self, series: int) -> list[int]:
        """Where a series stands."""
        if self._order is None:
            at = int(np.searchsorted(self.series, series))
            return [at] if at < len(self.series) and self.series[at] == series else []
        start, end = np.searchsorted(self.series, [series, series + 1], sorter=self._order)
        found: list[int] = self._order[start:end].tolist()
        return found


class Layouts:
    """All layouts. Safe to use from several threads."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._by_series: dict[bytes, Layout] = {}
        self.by_id: dict[int, Layout] = {}
        self._next = 1
        self._pending: list[Layout] = []

    def of(self, series: I64, *, ascending: bool = False) -> Layout:
        """The layout of an order of series; `ascending` if it is known that each number is larger than the one
        before."""
        # As they are written, eight bytes each.
        series = series.astype(np.int64, copy=False)
        key = _key(series)
        found = self._by_series.get(key)
        if found:
            return found
        with self._lock:
            found = self._by_series.get(key)
            if not found:
                found = self._added(self._next, series, key, ascending=ascending)
                self._pending.append(found)
            return found

    def find(self, key: bytes) -> Layout | None:
        """The layout of a key."""
        return self._by_series.get(key)

    def add(self, number: int, series: I64) -> Layout:
        """A layout that is written."""
        return self._added(number, series, _key(series))

    def _added(self, number: int, series: I64, key: bytes, *, ascending: bool = False) -> Layout:
        made = self._by_series[key] = Layout(number, series, ascending=ascending)
        self.by_id[number] = made
        self._next = max(self._next, number + 1)
        return made

    def take_pending(self) -> list[Layout]:
        """Those that are not written yet; `restore` them if the writing fails."""
        with self._lock:
            taken, self._pending = self._pending, []
            return taken

    def restore(self, taken: list[Layout]) -> None:
        with self._lock:
            self._pending = taken + self._pending

    def forget(self, ids: Iterable[int]) -> None:
        """Drops layouts that no points use any more."""
        with self._lock:
            for number in ids:
                dropped = self.by_id.pop(number, None)
                if dropped:
                    self._by_series.pop(_key(dropped.series), None)

    def forget_with(self, series: I64) -> None:
        """Drops those that have any of some series."""
        with self._lock:
            held = list(self.by_id.values())
        self.forget(one.id for one in held if np.isin(one.series, series).any())


def _key(series: I64) -> bytes:
    return blake2b(series.tobytes(), digest_size=16).digest()
