"""How many events groups had lately."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from balise.core.rules.room import Room

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
SLOTS = 120


class Counting:
    """Counts in the last `over` seconds, to within a 120th of that. Times are unix seconds.

    Events may come in any order: each counts as long as its own time is in the window. One from a clock that is ahead
    counts as of now.
    """

    def __init__(self, over: float) -> None:
        self.over = over
        self._width = over / SLOTS
        self._slots = np.empty((0, SLOTS + 1), np.int32)
        self._total = np.empty(0, np.int64)
        self._room = Room({"_slots": 0, "_total": 0})
        self._newest = 0

    def grow(self, groups: int) -> None:
        more = groups - len(self._total)
        if more > 0:
            vars(self).update(self._room.grow(vars(self), more))

    def observe(self, groups: I64, times: F64, now: float) -> None:
        self._turn_to(now)
        slots = (np.minimum(times, now) // self._width).astype(np.int64)
        inside = slots >= self._newest - SLOTS
        groups, slots = groups[inside], slots[inside]
        for slot in np.unique(slots).tolist():
            counts = np.bincount(groups[slots == slot], minlength=len(self._total))
            self._slots[:, slot % (SLOTS + 1)] += counts.astype(np.int32)
            self._total += counts

    def values(self, now: float) -> F64:
        """How many there are of each group [groups]."""
        self._turn_to(now)
        return self._total.astype(np.float64)

    def _turn_to(self, now: float) -> None:
        slot = int(now // self._width)
        gone = min(slot - self._newest, SLOTS + 1)
        for late in range(max(gone, 0)):
            place = (slot - late) % (SLOTS + 1)
            self._total -= self._slots[:, place]
            self._slots[:, place] = 0
        self._newest = max(slot, self._newest)


class Distinct:
    """How many different values groups had in the last `over` seconds."""

    def __init__(self, over: float) -> None:
        self.over = over
        self._rows: dict[tuple[int, str], int] = {}
        self._groups = 0
        self._group = np.empty(0, np.int64)
        self._last = np.empty(0)
        self._room = Room({"_group": 0, "_last": -np.inf})

    def grow(self, groups: int) -> None:
        self._groups = max(self._groups, groups)

    def observe(self, groups: I64, times: F64, values: Sequence[str], now: float) -> None:
        keys = list(zip(groups.tolist(), values, strict=True))
        fresh = list(dict.fromkeys(key for key in keys if key not in self._rows))
        first = len(self._last)
        vars(self).update(self._room.grow(vars(self), len(fresh)))
        self._rows.update((key, first + i) for i, key in enumerate(fresh))
        self._group[first:] = [group for group, _ in fresh]
        rows = np.array([self._rows[key] for key in keys], np.int64)
        np.maximum.at(self._last, rows, np.minimum(times, now))
        if len(self._last) > 1024 and (self._last <= now - self.over).mean() > 0.5:
            self._forget(now - self.over)

    def values(self, now: float) -> F64:
        """How many different ones there are of each group [groups]."""
        held = self._group[self._last > now - self.over]
        return np.bincount(held, minlength=self._groups).astype(np.float64)

    def _forget(self, floor: float) -> None:
        stay = np.flatnonzero(self._last > floor)
        place = np.full(len(self._last), -1, np.int64)
        place[stay] = np.arange(len(stay))
        self._rows = {key: int(place[row]) for key, row in self._rows.items() if place[row] >= 0}
        self._group, self._last = self._group[stay].copy(), self._last[stay].copy()
