"""Sliding windows over many series at once: what a rule's `take` gives over its `over`, right now."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from balise.api.metrics import Take
from balise.core.series.wire import PointKind

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
SLOTS = 12
FIRST_INTERVAL = 60.0
"""Seconds assumed between points until two have been seen."""
_REBUILD_EVERY = 600
"""Slots after which running sums are made anew from the ring, because floating sums drift."""


class Windows:
    """A ring of `SLOTS` + 1 slots of time for each of `rows` series, with running sums.

    Times are unix seconds. `measure` answers over the last `over` seconds, to the slot's width.
    """

    def __init__(self, over: float, take: Take) -> None:
        self.over = over
        self._take = take
        self._width = max(over / SLOTS, 1.0)
        self._ring = SLOTS + 1
        self._slot: int | None = None
        self._turns = 0
        self.last_time = np.empty(0)
        self.last_value = np.empty(0)
        self.interval = np.empty(0)
        self._counter = np.empty(0, bool)
        self._delta = np.empty(0, bool)
        self._total = np.empty((self._ring, 0))
        self._count = np.empty((self._ring, 0))
        self._low = np.empty((self._ring, 0))
        self._high = np.empty((self._ring, 0))
        self._running_total = np.empty(0)
        self._running_count = np.empty(0)

    def grow(self, kinds: list[PointKind]) -> None:
        """Adds series of the given kinds."""
        n = len(kinds)
        if not n:
            return
        self.last_time = np.concatenate([self.last_time, np.full(n, -np.inf)])
        self.last_value = np.concatenate([self.last_value, np.full(n, np.nan)])
        self.interval = np.concatenate([self.interval, np.full(n, FIRST_INTERVAL)])
        self._counter = np.concatenate([self._counter, np.array([k == "counter" for k in kinds])])
        self._delta = np.concatenate([self._delta, np.array([k == "delta" for k in kinds])])
        self._running_total = np.concatenate([self._running_total, np.zeros(n)])
        self._running_count = np.concatenate([self._running_count, np.zeros(n)])
        for name, empty in (("_total", 0.0), ("_count", 0.0), ("_low", np.nan), ("_high", np.nan)):
            setattr(self, name, np.hstack([getattr(self, name), np.full((self._ring, n), empty)]))

    def observe(self, rows: I64, times: F64, values: F64) -> None:
        """Takes points of any order; a row may occur several times."""
        good = ~np.isnan(values)
        rows, times, values = rows[good], times[good], values[good]
        if not len(rows):
            return
        order = np.lexsort((times, rows))
        rows, times, values = rows[order], times[order], values[order]
        first = np.flatnonzero(np.diff(rows, prepend=-1))
        turn = np.arange(len(rows)) - np.repeat(first, np.diff(first, append=len(rows)))
        for nth in range(int(turn.max()) + 1):
            now = turn == nth
            self._observe_once(rows[now], times[now], values[now])

    def _observe_once(self, rows: I64, times: F64, values: F64) -> None:
        fresh = times > self.last_time[rows]
        if self._take != "last":
            self._enter(rows, times, values, fresh)
        rows, times, values = rows[fresh], times[fresh], values[fresh]
        gap = times - self.last_time[rows]
        seen = np.isfinite(gap)
        known = rows[seen]
        was = self.interval[known]
        self.interval[known] = np.where(was == FIRST_INTERVAL, gap[seen], 0.8 * was + 0.2 * np.minimum(gap[seen], 600))
        self.last_time[rows] = times
        self.last_value[rows] = values

    def _enter(self, rows: I64, times: F64, values: F64, fresh: NDArray[np.bool_]) -> None:
        """Puts points into their slots. For a rate, what counts is the growth since the point before."""
        weight = np.ones(len(rows))
        if self._take == "rate":
            before, seen = self.last_value[rows], self.last_time[rows]
            grown = values - before
            grown = np.where(self._counter[rows] & (grown < 0), values, grown)
            with np.errstate(invalid="ignore"):
                weight = np.where(self._delta[rows], np.minimum(times - seen, self.over), times - seen)
            values = np.where(self._delta[rows], values, grown)
            usable = fresh & np.isfinite(weight) & ~np.isnan(values)
            rows, times, values, weight = rows[usable], times[usable], values[usable], weight[usable]
        slots = (times // self._width).astype(np.int64)
        if self._slot is None and len(slots):
            self._slot = int(slots.max())
        if self._slot is None:
            return
        if len(slots) and int(slots.max()) > self._slot:
            self._turn_to(int(slots.max()))
        recent = slots > self._slot - self._ring
        rows, slots, values, weight = rows[recent], slots[recent] % self._ring, values[recent], weight[recent]
        self._total[slots, rows] += values
        self._count[slots, rows] += weight
        self._low[slots, rows] = np.fmin(self._low[slots, rows], values)
        self._high[slots, rows] = np.fmax(self._high[slots, rows], values)
        self._running_total[rows] += values
        self._running_count[rows] += weight

    def _turn_to(self, slot: int) -> None:
        if self._slot is None:
            self._slot = slot
            return
        for passed in range(max(self._slot + 1, slot - self._ring + 1), slot + 1):
            place = passed % self._ring
            self._running_total -= self._total[place]
            self._running_count -= self._count[place]
            self._total[place] = 0.0
            self._count[place] = 0.0
            self._low[place] = np.nan
            self._high[place] = np.nan
            self._turns += 1
        self._slot = max(slot, self._slot)
        if self._turns >= _REBUILD_EVERY:
            self._turns = 0
            self._running_total = self._total.sum(axis=0)
            self._running_count = self._count.sum(axis=0)

    def measure(self, now: float) -> F64:
        """The value of every series at `now`, NaN where it has none."""
        if self._take == "last":
            lasting = np.maximum(self.over, 3 * self.interval)
            return np.where(now - self.last_time <= lasting, self.last_value, np.nan)
        if self._slot is not None:
            self._turn_to(max(int(now // self._width), self._slot))
        with np.errstate(invalid="ignore", divide="ignore"):
            some = self._running_count > 0.5 if self._take != "rate" else self._running_count > 1e-9
            if self._take == "min":
                return np.asarray(np.fmin.reduce(self._low, axis=0), np.float64)
            if self._take == "max":
                return np.asarray(np.fmax.reduce(self._high, axis=0), np.float64)
            if self._take == "count":
                return np.where(some, self._running_count, np.nan)
            if self._take == "sum":
                mean = self._running_total / self._running_count
                return np.where(some, np.where(self._delta, self._running_total, mean), np.nan)
            return np.where(some, self._running_total / self._running_count, np.nan)

    def silent(self, now: float) -> NDArray[np.bool_]:
        """Series that were heard once, and have now missed three intervals."""
        return (now - self.last_time > 3 * np.maximum(self.interval, 5.0)) & np.isfinite(self.last_time)


def by_group(values: F64, groups: I64, count: int, take: Take) -> F64:
    """The values of groups out of those of their series, [count]: added up, or the least, mean or greatest."""
    out = np.full(count, np.nan)
    known = ~np.isnan(values)
    rows, values = groups[known], values[known]
    if take == "min":
        np.fmin.at(out, rows, values)
    elif take in ("sum", "count", "rate"):
        total = np.bincount(rows, values, count)
        some = np.bincount(rows, minlength=count) > 0
        out[some] = total[some]
    elif take == "avg":
        n = np.bincount(rows, minlength=count)
        total = np.bincount(rows, values, count)
        out[n > 0] = total[n > 0] / n[n > 0]
    else:
        np.fmax.at(out, rows, values)
    return out
