"""Orders in which series come together."""

from __future__ import annotations

import threading
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

I64 = NDArray[np.int64]


@dataclass(frozen=True)
class Layout:
    """An order of series, as points of one body come: `series` int64 [n]."""

    id: int
    series: I64
    plain: bool
    """Every series occurs once."""


class Layouts:
    """All layouts. Safe to use from several threads."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._by_series: dict[bytes, Layout] = {}
        self.by_id: dict[int, Layout] = {}
        self._next = 1
        self._pending: list[Layout] = []

    def of(self, series: I64) -> Layout:
        """The layout of an order of series."""
        key = series.tobytes()
        found = self._by_series.get(key)
        if found:
            return found
        with self._lock:
            found = self._by_series.get(key)
            if not found:
                found = self.add(self._next, series)
                self._pending.append(found)
            return found

    def add(self, number: int, series: I64) -> Layout:
        """A layout that is written."""
        made = Layout(number, series, len(np.unique(series)) == len(series))
        self._by_series[series.tobytes()] = made
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
                    self._by_series.pop(dropped.series.tobytes(), None)

    def forget_with(self, series: set[int]) -> None:
        """Drops those that have any of some series."""
        with self._lock:
            held = list(self.by_id.values())
        self.forget(one.id for one in held if series.intersection(one.series.tolist()))
