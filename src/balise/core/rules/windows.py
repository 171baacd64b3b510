"""Sliding windows over many series at once: the points of each within the last `over` seconds of its own time."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from balise.api.metrics import Take
from balise.core.moments import seconds_of
from balise.core.rules.room import Room
from balise.core.series.growth import MAX_GAP
from balise.core.series.portions import has_any
from balise.core.series.summary import FIELDS, Summary
from balise.core.series.wire import PointKind

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
Mask = NDArray[np.bool_]
FIRST_INTERVAL = 60.0
"""Seconds assumed between points until two have been seen."""
MOST_CELLS = 8_000_000
"""Room for points that all windows of a rule may take together, as long as each series has `ALWAYS` of them; of a
series that sends more, the oldest points are left out."""
ALWAYS = 32
LAST_POINTS = 4
"""Of so many points the gaps between are known."""
_BLOCK = 16_384
_FIELDS: dict[str, set[str]] = {
    "min": {"low"},
    "max": {"high"},
    "count": set(),
    "last": set(),
    "rate": {"total", "growth"},
    "change": {"change"},
}
_GAP = seconds_of(MAX_GAP)
_NEWEST: dict[str, object] = {
    "last_time": -np.inf,
    "last_value": np.nan,
    "_came_at": 0.0,
    "_gaps": np.nan,
    "_gaps_seen": 0,
    "_counter": False,
    "delta": False,
}
"""What a series without points has; without the summary of its window."""
_POINTS: dict[str, object] = {
    "_times": -np.inf,
    "_values": 0.0,
    "_start": 0,
    "_size": 0,
    "_oldest": np.inf,
    "_floor": -np.inf,
    "_dirty": False,
}
_SUMMED: dict[str, object] = {name: np.nan if name in ("low", "high", "last") else 0.0 for name in FIELDS}
_SUMS = {"growth": {"grown", "seen"}, "change": {"grown"}}
"""What is kept of a window for a field that is not called as what it is kept in."""
_UNKNOWN = {name: np.broadcast_to(np.array(fill), (np.iinfo(np.int32).max, 1)) for name, fill in _SUMMED.items()}
"""Sums that nothing is asked of, of any number of series: they take no memory."""


class Windows:
    """Windows of `rows` series. Times are unix seconds.

    A window ends at the series' own now and holds the points later than `over` seconds before that, no more and no
    less. Own is the time of whoever stamps the points: from the newest of them it goes on as ours does. What a window
    gives is worked out from its points themselves whenever they change, so nothing drifts, and a value that is no
    number or too large for sums is forgotten with its point. Of several points of one moment the first counts; points
    may come in any order.
    """

    def __init__(self, over: float, take: Take, *, growing: bool = False) -> None:
        self.over = over
        self.newest_only = take == "last"
        self._fields = _FIELDS.get(take, {"total"}) | ({"total", "low", "high", "growth"} if growing else set())
        self.growing = "growth" in self._fields
        self.last_time = np.empty(0)
        self.last_value = np.empty(0)
        self._came_at = np.empty(0)
        self._gaps = np.empty((0, 3))
        self._gaps_seen = np.empty(0, np.int32)
        self._counter = np.empty(0, bool)
        self.delta = np.empty(0, bool)
        self._times = np.empty((0, 4))
        self._values = np.empty((0, 4))
        self._start = np.empty(0, np.int32)
        self._size = np.empty(0, np.int32)
        self._oldest = np.empty(0)
        self._floor = np.empty(0)
        self._dirty = np.empty(0, bool)
        self.summary = Summary.empty(0, 1)
        self.left_out = 0
        self._room = Room(_NEWEST if self.newest_only else _NEWEST | _POINTS)
        kept = {"count", "last"}.union(*(_SUMS.get(field, {field}) for field in self._fields))
        self._summary_room = Room({name: fill for name, fill in _SUMMED.items() if name in kept})

    def __len__(self) -> int:
        return len(self.last_time)

    def grow(self, counters: Mask, deltas: Mask) -> None:
        """Adds series, [n]: whether each is a counter, and whether it tells amounts since the point before."""
        n = len(counters)
        vars(self).update(self._room.grow(vars(self), n))
        size = len(self)
        sums = {name: sums[:size] for name, sums in _UNKNOWN.items()}
        self.summary = Summary(**sums | self._summary_room.grow(vars(self.summary), n))
        first = size - n
        self._counter[first:], self.delta[first:] = counters, deltas

    # --- taking points

    def observe(self, rows: I64, times: F64, values: F64, came_at: float) -> None:
        """Takes points of any order that came at a moment by our clock; a row may occur several times."""
        missing = np.isnan(values)
        if has_any(missing):
            rows, times, values = rows[~missing], times[~missing], values[~missing]
        if not len(rows):
            return
        if has_any(rows[1:] <= rows[:-1]):
            order = np.lexsort((times, rows))
            rows, times, values = rows[order], times[order], values[order]
        again = rows[1:] == rows[:-1]
        if not has_any(again):
            self._observe_once(rows, times, values, came_at)
            return
        first = np.append(True, ~again)
        starts = np.flatnonzero(first)
        counts = np.diff(starts, append=len(rows))
        if not self.newest_only and self._observe_many(rows, times, values, first, counts, came_at):
            return
        turn = np.arange(len(rows)) - np.repeat(starts, counts)
        if self.newest_only:
            # The last points of a series tell all that is kept of it: its value, and how far apart they are.
            left = np.repeat(counts, counts) - turn
            last = left <= LAST_POINTS
            rows, times, values, turn = rows[last], times[last], values[last], LAST_POINTS - left[last]
        for nth in range(int(turn.max()) + 1):
            now = turn == nth
            self._observe_once(rows[now], times[now], values[now], came_at)

    def _observe_many(self, rows: I64, times: F64, values: F64, first: Mask, counts: I64, came_at: float) -> bool:
        """Takes points of which all are later than what is there, several of each row, in order; answers whether it
        did. `first` are the first of each row, `counts` how many each has."""
        own, before = rows[first], np.append(-np.inf, times[:-1])
        before[first] = self.last_time[own]
        if not (times > before).all():
            return False
        newest = np.cumsum(counts) - 1
        floor = times[newest] - self.over
        # Of what is before a window its last point counts, from which growth is seen.
        kept = times > np.repeat(floor, counts)
        kept[:-1] |= kept[1:]
        left = np.repeat(newest, counts) - np.arange(len(rows))
        more = np.add.reduceat(kept, np.flatnonzero(first), dtype=np.int64)
        if not self._make_room(own, more, floor):
            return False
        for back in range(LAST_POINTS - 1)[::-1]:
            self._see_gaps(rows[left == back], (times - before)[left == back])
        self.last_time[own], self.last_value[own], self._came_at[own] = times[newest], values[newest], came_at
        place = np.repeat(self._start[own] + self._size[own] + more, more) - left[kept] - 1
        self._times[rows[kept], place % self._times.shape[1]] = times[kept]
        self._values[rows[kept], place % self._times.shape[1]] = values[kept]
        self._size[own] += more.astype(np.int32)
        self._dirty[own] = True
        return True

    def _make_room(self, rows: I64, more: I64, floor: F64) -> bool:
        """Room for `more` points of each of some rows; answers whether there can be."""
        tight = self._size[rows] + more > self._times.shape[1]
        if tight.any():
            self._let_go(rows[tight], floor[tight])
            while int((self._size[rows] + more).max()) > self._times.shape[1]:
                if not self._may_widen:
                    return False
                self._double()
        return True

    def _observe_once(self, rows: I64, times: F64, values: F64, came_at: float) -> None:
        before = self.last_time[rows]
        fresh = times > before
        if has_any(~fresh):
            if not self.newest_only:
                # What is of the newest moment came before.
                late = times < before
                for row, at, value in zip(rows[late], times[late], values[late], strict=True):
                    self._insert(int(row), float(at), float(value))
            rows, times, values, before = rows[fresh], times[fresh], values[fresh], before[fresh]
        self._see_gaps(rows, times - before)
        self.last_time[rows] = times
        self.last_value[rows] = values
        self._came_at[rows] = came_at
        if not self.newest_only:
            self._append(rows, times, values)

    def _see_gaps(self, rows: I64, gap: F64) -> None:
        """The last three gaps of each row, each in the place of the one three before."""
        seen = np.isfinite(gap)
        if has_any(~seen):
            rows, gap = rows[seen], gap[seen]
        turn = self._gaps_seen[rows]
        self._gaps[rows, turn % 3] = gap
        self._gaps_seen[rows] = turn + 1

    def _append(self, rows: I64, times: F64, values: F64) -> None:
        full = self._size[rows] == self._times.shape[1]
        if has_any(full):
            self._let_go(rows[full], times[full] - self.over)
            if (self._size[rows[full]] == self._times.shape[1]).any():
                self._widen(rows[full])
        width = self._times.shape[1]
        place = (self._start[rows] + self._size[rows]) % width
        self._times[rows, place] = times
        self._values[rows, place] = values
        self._size[rows] += 1
        self._dirty[rows] = True

    def _let_go(self, rows: I64, floor: F64) -> None:
        """Drops points at or before `floor`, but for the last of them, from which growth is seen."""
        times, _, there = self._ordered(rows)
        out = (there & (times <= floor[:, None])).sum(axis=1)
        gone = np.maximum(out - 1, 0)
        self._start[rows] = (self._start[rows] + gone) % self._times.shape[1]
        self._size[rows] -= gone

    def _widen(self, full: I64) -> None:
        width = self._times.shape[1]
        if not self._may_widen:
            stuck = full[self._size[full] == width]
            self._start[stuck] = (self._start[stuck] + 1) % width
            self._size[stuck] -= 1
            self.left_out += len(stuck)
        else:
            self._double()

    @property
    def _may_widen(self) -> bool:
        width = 2 * self._times.shape[1]
        return width <= ALWAYS or width * len(self) <= MOST_CELLS

    def _double(self) -> None:
        """Twice as many places for each row."""
        every = np.arange(len(self))
        times, values, there = self._ordered(every)
        self._times = np.hstack([np.where(there, times, -np.inf), np.full_like(times, -np.inf)])
        self._values = np.hstack([values, np.empty_like(values)])
        self._start[:] = 0

    def _insert(self, row: int, at: float, value: float) -> None:
        """A point that is not the newest of its series: it goes to its place, unless there is one already."""
        times, values, there = (a[0] for a in self._ordered(np.array([row])))
        times, values = times[there], values[there]
        place = int(np.searchsorted(times, at))
        if at <= self.last_time[row] - self.over - _GAP or (place < len(times) and times[place] == at):
            return
        if len(times) == self._times.shape[1]:
            self._let_go(np.array([row]), np.array([self.last_time[row] - self.over]))
            if self._size[row] == self._times.shape[1]:
                self._widen(np.array([row]))
            self._insert(row, at, value)
            return
        n = len(times) + 1
        self._times[row] = -np.inf
        self._times[row, :n] = np.insert(times, place, at)
        self._values[row, :n] = np.insert(values, place, value)
        self._start[row], self._size[row], self._dirty[row] = 0, n, True

    def _ordered(self, rows: I64) -> tuple[F64, F64, Mask]:
        """Times and values of rows from the oldest on, [rows, width], and which of them are there."""
        width = self._times.shape[1]
        places = (self._start[rows][:, None] + np.arange(width)) % width
        there = np.arange(width) < self._size[rows][:, None]
        at = rows[:, None]
        return self._times[at, places], self._values[at, places], there

    # --- answering

    def edges(self, now: float, behind: F64 | float) -> F64:
        """Each series' own now: as far behind ours as its clock is, but never before what its newest point says."""
        return np.maximum(now - behind, self.last_time + (now - self._came_at))

    def turn_to(self, now: float, behind: F64 | float) -> I64:
        """Brings `summary` to `now`, unix seconds; answers the rows whose points changed (none when only the newest
        point counts). `behind` is by how many seconds the clock of all or each of the series is behind ours."""
        floor = self.edges(now, behind) - self.over
        if self.newest_only:
            held = self.last_time > floor
            self.summary.last[:, 0] = np.where(held, self.last_value, np.nan)
            self.summary.count[:, 0] = held
            return np.empty(0, np.int64)
        changed = (self._dirty | (floor >= self._oldest)).nonzero()[0]
        for rows in in_blocks(changed):
            self._sum_up(rows, floor[rows])
        self._dirty[changed] = False
        return changed

    def _sum_up(self, rows: I64, floor: F64) -> None:
        # Places that were let go or never used hold times before any floor.
        times, values, fields, summary = self._times[rows], self._values[rows], self._fields, self.summary
        inside = times > floor[:, None]
        count = np.add.reduce(inside, axis=1, dtype=np.int64)
        some = count > 0
        summary.count[rows, 0] = count
        summary.last[rows, 0] = np.where(some, self.last_value[rows], np.nan)
        self._oldest[rows] = np.minimum.reduce(times, axis=1, where=inside, initial=np.inf)
        self._floor[rows] = floor
        with np.errstate(over="ignore", invalid="ignore"):
            if "total" in fields:
                summary.total[rows, 0] = np.add.reduce(values, axis=1, where=inside)
            if "low" in fields:
                low = np.minimum.reduce(values, axis=1, where=inside, initial=np.inf)
                summary.low[rows, 0] = np.where(some, low, np.nan)
            if "high" in fields:
                high = np.maximum.reduce(values, axis=1, where=inside, initial=-np.inf)
                summary.high[rows, 0] = np.where(some, high, np.nan)
            if self.growing:
                self._see_growth(rows, floor)
            if "change" in fields:
                summary.grown[rows, 0] = self.last_value[rows] - self._first_inside(rows, inside)

    def _first_inside(self, rows: I64, inside: Mask) -> F64:
        """The oldest value in the window of each row; places hold their points in a ring, the oldest one anywhere."""
        times = np.where(inside, self._times[rows], np.inf)
        found: F64 = np.take_along_axis(self._values[rows], times.argmin(axis=1)[:, None], axis=1)[:, 0]
        return found

    def _see_growth(self, rows: I64, floor: F64) -> None:
        times, values, there = self._ordered(rows)
        change, gap = values[:, 1:] - values[:, :-1], times[:, 1:] - times[:, :-1]
        counter = self._counter[rows]
        if has_any(counter):
            change = np.where(counter[:, None] & (change < 0), values[:, 1:], change)
        inside = there[:, 1:] & (times[:, 1:] > floor[:, None])
        known = inside & (gap <= _GAP) & np.isfinite(change)
        self.summary.grown[rows, 0] = np.add.reduce(change, axis=1, where=known)
        self.summary.seen[rows, 0] = np.add.reduce(gap, axis=1, where=known)

    def points_of(self, rows: I64) -> tuple[I64, F64]:
        """The values in the windows of some rows as of the last turn, and at which place of `rows` each is, [n]."""
        inside = self._times[rows] > self._floor[rows][:, None]
        return np.nonzero(inside)[0], self._values[rows][inside]

    @property
    def kinds(self) -> list[PointKind]:
        """Of each series its kind."""
        return kinds_of(self._counter, self.delta)

    def silent(self, now: float, behind: F64 | float) -> Mask:
        """Series that were heard once, and have now missed three intervals; one long gap is no interval."""
        # The first gap that is seen counts as all three, until there are others.
        gaps = np.where(np.isnan(self._gaps), self._gaps[:, :1], self._gaps)
        gaps[self._gaps_seen == 0] = FIRST_INTERVAL
        interval = np.maximum(np.sort(gaps, axis=1)[:, 1], 5.0)
        silent: Mask = (self.edges(now, behind) - self.last_time > 3 * interval) & np.isfinite(self.last_time)
        return silent


def kinds_of(counters: Mask, deltas: Mask) -> list[PointKind]:
    """The kind of each of some series, [n]."""
    return ["counter" if c else "delta" if d else "gauge" for c, d in zip(counters, deltas, strict=True)]


def in_blocks(rows: I64) -> Iterator[I64]:
    """Rows, so many at once as stay in the processor's cache."""
    for start in range(0, len(rows), _BLOCK):
        yield rows[start : start + _BLOCK]
