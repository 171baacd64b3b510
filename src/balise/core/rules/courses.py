"""Where the groups of a rule are going: samples at two paces, and the trend of each."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from balise.core.rules.look import Course
from balise.core.rules.room import Room
from balise.core.rules.trend import AHEAD, LEAST_POINTS, Seen, left, reached, trusted
from balise.core.rules.windows import in_blocks

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
SLOTS = 48
BACK = 7.0
"""How many times as far as a limit looks ahead is looked back: two whole days and more for eight hours, so that what
comes every day is seen twice."""
NEARER = 10.0
SHORTEST, LONGEST = 3600.0, 60 * 86_400.0
SEEN = 0.2
"""A line has to be seen for so much of what a limit looks ahead before it is judged."""
AT_ONCE = 20_000
"""Groups that are looked at in one tick."""
TRENDS_AT_ONCE = 500
"""Of these so many, about, of which a trend has to be worked out."""


class Ring:
    """The means of groups in each of the last `SLOTS` slots of `width` seconds, with the one that goes on now.

    Means, as single samples would make slow waves of quick ones.
    """

    def __init__(self, width: float) -> None:
        self.width = width
        self.values = np.empty((0, SLOTS))
        self._slots = np.full(SLOTS, -1, np.int64)
        self._now = -1
        self._until = 0.0
        self._sum = np.empty(0)
        self._count = np.empty(0)
        self._room = Room({"values": np.nan, "_sum": 0.0, "_count": 0.0})

    def grow(self, rows: int) -> None:
        vars(self).update(self._room.grow(vars(self), rows))

    def slot_of(self, at: float) -> int:
        return int(at // self.width)

    def take(self, at: float, values: F64) -> bool:
        """Takes what groups are now; answers whether a slot has ended."""
        slot = self.slot_of(at)
        ended = slot != self._now
        if ended:
            self._end_slot()
            self._now = slot
        known = ~np.isnan(values)
        np.add(self._sum, values, out=self._sum, where=known)
        self._count += known
        self._until = at
        return ended

    def _end_slot(self) -> None:
        """What was in the slot that went on is kept in place of what is too old."""
        slot = self._now
        if slot >= 0:
            self._clear_before(slot)
            held = self.values[:, slot % SLOTS]
            self.values[:, slot % SLOTS] = np.where(self._count > 0, self._mean(), held)
            self._slots[slot % SLOTS] = slot
        self._sum[:] = 0.0
        self._count[:] = 0.0

    def _clear_before(self, slot: int) -> None:
        gone = self._slots <= slot - SLOTS
        gone[slot % SLOTS] |= self._slots[slot % SLOTS] != slot
        self.values[:, gone] = np.nan
        self._slots[gone] = -1

    def _mean(self, rows: I64 | slice = slice(None)) -> F64:
        with np.errstate(invalid="ignore"):
            return self._sum[rows] / self._count[rows]

    def fill(self, rows: I64, slots: I64, values: F64) -> None:
        """Puts what is stored into places of some rows that have nothing. `values` is [rows, slots]."""
        newest = max(int(self._slots.max(initial=-1)), int(slots.max(initial=-1)), self._now - 1)
        for i, slot in enumerate(slots.tolist()):
            place = slot % SLOTS
            if slot <= newest - SLOTS or self._slots[place] > slot or slot == self._now:
                continue
            if self._slots[place] != slot:
                self.values[:, place] = np.nan
                self._slots[place] = slot
            held = self.values[rows, place]
            self.values[rows, place] = np.where(np.isnan(held), values[:, i], held)

    def seen(self, rows: I64 | slice = slice(None)) -> Seen:
        """The means of some rows in order of time, each at the middle of its slot."""
        order = np.argsort(self._slots)
        order = order[self._slots[order] > max(self._now - SLOTS, -1)]
        times, values = (self._slots[order] + 0.5) * self.width, self.values[rows][:, order]
        if self._now < 0:
            return Seen(times.astype(np.float64), values)
        going_on = (self._now * self.width + self._until) / 2
        return Seen(np.append(times, going_on).astype(np.float64), np.column_stack([values, self._mean(rows)]))


class Courses:
    """Trends of all groups of one limit that looks `within` seconds ahead. Times are unix seconds."""

    def __init__(self, within: float) -> None:
        self.within = within
        self.reach = float(np.clip(BACK * within, SHORTEST, LONGEST))
        self.far = Ring(self.reach / SLOTS)
        self.near = Ring(self.reach / SLOTS / NEARER)
        self._level = np.empty(0)
        self._slope = np.empty(0)
        self._span = np.empty(0)
        self._looked = np.empty(0)
        self._room = Room({"_level": np.nan, "_slope": 0.0, "_span": 0.0, "_looked": 0.0})
        self._next = 0
        self.rests = 0.0
        """Seconds for which a trend is taken to last, beside what its samples say."""
        self._began = -np.inf

    def __len__(self) -> int:
        return len(self._level)

    def grow(self, rows: int) -> None:
        more = rows - len(self)
        if more > 0:
            vars(self).update(self._room.grow(vars(self), more))
            self.far.grow(more)
            self.near.grow(more)

    def sample(self, now: float, values: F64) -> None:
        """Takes what groups are now, if it is time for that."""
        fresh = self.near.take(now, values)
        if (self.far.take(now, values) or fresh) and now - self._began >= self.rests:
            self._next, self._began = 0, now

    def renew(self) -> None:
        """Has all trends be looked at again, as more is known of what was."""
        self._next = 0

    def look(self, now: float, at: F64, most: int = AT_ONCE) -> None:
        """Looks at the trends of the next groups, at most so many.

        Args:
            at: what they are asked to reach [groups].
        """
        if self._next >= len(self):
            return
        rows = np.arange(self._next, min(self._next + most, len(self)))
        far, near = self.far.seen(rows), self.near.seen(rows)
        maybe = _may_reach(far, at[rows], self.within) | _may_reach(near, at[rows], self.within)
        enough = _spans(far, near) >= SEEN * self.within
        maybe &= enough
        if np.count_nonzero(maybe) > TRENDS_AT_ONCE:
            few = int(np.flatnonzero(maybe)[TRENDS_AT_ONCE])
            rows, maybe, enough = rows[:few], maybe[:few], enough[:few]
            far, near = self.far.seen(rows), self.near.seen(rows)
        self._next += len(rows)
        current = _newest(near)
        level, slope, span = current.copy(), np.zeros(len(rows)), np.full(len(rows), self.reach)
        level[~enough] = np.nan
        if maybe.any():
            found = trusted(far.part(maybe), near.part(maybe), now, at[rows][maybe])
            ok = ~np.isnan(found.slope)
            chosen = np.flatnonzero(maybe)[ok]
            level[chosen], slope[chosen], span[chosen] = found.level[ok], found.slope[ok], found.span[ok]
        self._level[rows], self._slope[rows], self._span[rows], self._looked[rows] = level, slope, span, now

    def course(self, now: float, at: F64) -> Course:
        """Where groups stand now, and where they go: a trend that is not trusted as far ahead stands still."""
        level, slope = self._level.copy(), self._slope.copy()
        # Most stand still.
        for rows in in_blocks(np.flatnonzero(slope)):
            level[rows] += slope[rows] * (now - self._looked[rows])
            far_off = np.isinf(left(level[rows], slope[rows], self._span[rows], at[rows]))
            slope[rows[far_off]] = 0.0
        return Course(level, slope)

    def reaches(self, row: int, now: float, at: float) -> tuple[float, float, float] | None:
        """When a group gets to `at`: the likely, the earliest and the latest moment; None if it does not."""
        one = np.array([row])
        found = trusted(self.far.seen(one), self.near.seen(one), now, np.array([at]))
        when = reached(found, np.array([at]), now)
        return None if np.isnan(when.at[0]) else (float(when.at[0]), float(when.earliest[0]), float(when.latest[0]))


def _spans(far: Seen, near: Seen) -> F64:
    """How long each line has been seen, seconds."""
    first = np.fmin(_first(far), _first(near))
    last = max((float(seen.times[-1]) for seen in (far, near) if len(seen.times)), default=np.nan)
    with np.errstate(invalid="ignore"):
        return np.where(np.isnan(first), 0.0, last - first)


def _first(seen: Seen) -> F64:
    known = ~np.isnan(seen.values)
    if not len(seen.times):
        return np.full(len(seen.values), np.nan)
    return np.where(known.any(axis=1), seen.times[np.argmax(known, axis=1)], np.nan)


def _newest(seen: Seen) -> F64:
    """The newest of what is there of each line."""
    if not len(seen.times):
        return np.full(len(seen.values), np.nan)
    known = ~np.isnan(seen.values)
    place = len(seen.times) - 1 - np.argmax(known[:, ::-1], axis=1)
    found: F64 = np.take_along_axis(seen.values, place[:, None], axis=1)[:, 0]
    return found


def _may_reach(seen: Seen, at: F64, within: float) -> NDArray[np.bool_]:
    """Which lines may get there in time: a coarse look that is cheap, and keeps all that might."""
    n = len(seen.times)
    if n < LEAST_POINTS:
        return np.zeros(len(seen.values), bool)
    third = n // 3
    with np.errstate(all="ignore"):
        early, mid, late = (_mean(seen.values[:, part]) for part in np.array_split(np.arange(n), 3))
        wide = float(seen.times[-1] - seen.times[0]) * max(third, 1) / n
        newest = _newest(seen)
        climbs = np.stack(
            [(late - early) / (2 * wide), (late - mid) / wide, (newest - late) / wide, (newest - mid) / wide]
        )
        toward = np.sign(at - np.where(np.isnan(early), mid, early))
        speed = np.nanmax(np.where(np.isnan(climbs), -np.inf, climbs * toward), axis=0)
        gap = (at - newest) * toward
        return np.asarray((gap <= 0) | ((speed > 0) & (gap / speed <= 4 * within * AHEAD)), bool)


def _mean(values: F64) -> F64:
    known = ~np.isnan(values)
    found: F64 = np.where(known, values, 0.0).sum(axis=1) / known.sum(axis=1)
    return found
