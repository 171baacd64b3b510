"""In which stripes of recent points each series stands."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

I64 = NDArray[np.int64]
Key = tuple[int, bool]
"""A layout, and whether the points of a body share their moment."""
NOWHERE = -1


class Places:
    """Nearly every series is in one stripe, for which four bytes are kept; the others are kept by name. Written by one
    thread, read by any."""

    def __init__(self) -> None:
        self._slot = np.empty(0, np.int32)
        self._keys: list[Key | None] = []
        self._slots: dict[Key, int] = {}
        self._free: list[int] = []
        self._more: dict[int, list[Key]] = {}

    def add(self, key: Key, series: I64) -> None:
        """A new stripe stands there, with these series, each once."""
        slot = self._free.pop() if self._free else len(self._keys)
        if slot == len(self._keys):
            self._keys.append(key)
        else:
            self._keys[slot] = key
        self._slots[key] = slot
        self._room(int(series.max(initial=-1)) + 1)
        taken = self._slot[series] != NOWHERE
        for one in series[taken].tolist():
            self._more[one] = [*self._more.get(one, ()), key]
        self._slot[series[~taken]] = slot

    def remove(self, key: Key, series: I64) -> None:
        """A stripe is gone, which had these series."""
        slot = self._slots.pop(key)
        series = np.unique(series)
        own = series[self._slot[series] == slot]
        for one in np.setdiff1d(series, own).tolist():
            self._keep(one, [other for other in self._more.get(one, ()) if other != key])
        self._slot[own] = NOWHERE
        if self._more:
            for one in own.tolist():
                others = self._more.get(one)
                if others:
                    self._slot[one] = self._slots[others[0]]
                    self._keep(one, others[1:])
        self._keys[slot] = None
        self._free.append(slot)

    def of_any(self, series: I64) -> list[Key]:
        """The stripes that have any of these series, each once."""
        slots = self._slot
        slots = slots[series[series < len(slots)]]
        keys = [self._keys[slot] for slot in np.unique(slots[slots != NOWHERE]).tolist()]
        found = dict.fromkeys(key for key in keys if key is not None)
        more = self._more
        if more:
            found.update(dict.fromkeys(key for one in series.tolist() for key in more.get(one, ())))
        return list(found)

    def shares(self, series: I64) -> bool:
        """Whether any of these series is in several stripes."""
        return bool(self._more) and any(one in self._more for one in series.tolist())

    def _keep(self, one: int, others: list[Key]) -> None:
        if others:
            self._more[one] = others
        else:
            self._more.pop(one, None)

    def _room(self, size: int) -> None:
        if size > len(self._slot):
            more = np.full(size + size // 4 + 64 - len(self._slot), NOWHERE, np.int32)
            self._slot = np.concatenate([self._slot, more])
