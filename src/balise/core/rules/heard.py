"""When groups were heard: for the first time, and last."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from balise.core.rules.room import Room

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]


class Heard:
    """Times are unix seconds. What was not heard for `memory` seconds is heard for the first time again; while nobody
    was there to hear, in the stretches `away`, nothing was silent."""

    def __init__(self, memory: float = np.inf, away: Sequence[tuple[float, float]] = ()) -> None:
        self._memory = memory
        self._away = away
        self.first = np.empty(0)
        self.last = np.empty(0)
        self._room = Room({"first": np.nan, "last": np.nan})

    def grow(self, groups: int) -> None:
        more = groups - len(self.last)
        if more > 0:
            vars(self).update(self._room.grow(vars(self), more))

    def note(self, groups: I64, times: F64) -> None:
        """Groups were heard, in any order."""
        if not len(groups):
            return
        present, local = np.unique(groups, return_inverse=True)
        earliest, latest = np.full(len(present), np.inf), np.full(len(present), -np.inf)
        np.minimum.at(earliest, local, times)
        np.maximum.at(latest, local, times)
        first, last = self.first[present], self.last[present]
        with np.errstate(invalid="ignore"):
            new = np.isnan(last) | (earliest - last > self._memory)
            first = np.where(new, earliest, np.minimum(first, earliest))
        self.first[present], self.last[present] = first, np.fmax(last, latest)

    def know(self, groups: I64, times: F64) -> None:
        """Groups were heard long ago, at the last at these times: they are nothing new."""
        np.fmax.at(self.last, groups, times)
        self.first[groups] = -np.inf

    def quiet(self, now: float) -> F64:
        """Seconds since each group was heard, of those in which it could be; NaN for never [groups]."""
        out = np.maximum(now - self.last, 0.0)
        for start, end in self._away:
            out -= np.maximum(min(now, end) - np.maximum(self.last, start), 0.0)
        return out

    def fresh(self, now: float) -> F64:
        """Seconds since each group was heard for the first time; infinite for before anybody looked [groups]."""
        return now - self.first
