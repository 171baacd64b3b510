"""Limits with hold and clear, for all groups of a rule at once."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from balise.api.rules import Limit, Limits
from balise.api.spans import seconds

F64 = NDArray[np.float64]
OK, WARNING, CRITICAL = 0, 1, 2
LEVEL_NAMES = ("ok", "warning", "critical")
BLOCK = 16_384
"""Rows worked on together, so that what is touched stays in the processor's cache."""


@dataclass(frozen=True)
class Bound:
    """One limit as numbers; `sign` -1 turns a limit below into one above."""

    sign: float
    breach: float
    clear: float
    hold: float

    @staticmethod
    def of(limit: Limit) -> Bound:
        sign = 1.0 if limit.above is not None else -1.0
        breach = limit.above if limit.above is not None else limit.below
        if breach is None:
            raise ValueError("a limit has either above or below")
        clear = breach if limit.clear is None else limit.clear
        return Bound(sign, sign * breach, sign * clear, seconds(limit.hold))


@dataclass(frozen=True)
class Transition:
    """Group `row` went from one level to another; `since` is when its breach began."""

    row: int
    before: int
    after: int
    since: float


class _Side:
    """One severity of all rows: its bounds, since when breached (NaN if not), and whether raised."""

    def __init__(self, base: Bound) -> None:
        self.base = base
        self.sign = base.sign
        self.breach = np.empty(0)
        self.clear = np.empty(0)
        self.hold = np.empty(0)
        self.since = np.empty(0)
        self.raised = np.empty(0, bool)

    def grow(self, rows: int) -> None:
        more = rows - len(self.raised)
        self.breach = np.concatenate([self.breach, np.full(more, self.base.breach)])
        self.clear = np.concatenate([self.clear, np.full(more, self.base.clear)])
        self.hold = np.concatenate([self.hold, np.full(more, self.base.hold)])
        self.since = np.concatenate([self.since, np.full(more, np.nan)])
        self.raised = np.concatenate([self.raised, np.zeros(more, bool)])

    def set(self, row: int, bound: Bound) -> None:
        self.breach[row], self.clear[row], self.hold[row] = bound.breach, bound.clear, bound.hold

    def advance(self, now: float, values: F64, known: NDArray[np.bool_], rows: slice) -> None:
        since, raised = self.since[rows], self.raised[rows]
        signed = values if self.sign > 0 else -values
        breached = signed > self.breach[rows]
        fresh = breached & np.isnan(since)
        since[fresh] = now
        since[known & ~breached] = np.nan
        keep = raised & ~(signed <= self.clear[rows])
        breached &= (now - since) >= self.hold[rows]
        np.logical_or(keep, breached, out=raised)


class LimitMachine:
    """Levels of `rows` groups of one rule. A group without a value keeps its level."""

    def __init__(self, limits: Limits, rows: int = 0) -> None:
        self._sides: list[tuple[int, _Side]] = []
        if limits.warning:
            self._sides.append((WARNING, _Side(Bound.of(limits.warning))))
        if limits.critical:
            self._sides.append((CRITICAL, _Side(Bound.of(limits.critical))))
        self.level = np.empty(0, np.int8)
        self.grow(rows)

    def grow(self, rows: int) -> None:
        """Makes room for `rows` groups; the new ones are ok and have the rule's own limits."""
        if rows > len(self.level):
            for _, side in self._sides:
                side.grow(rows)
            self.level = np.concatenate([self.level, np.zeros(rows - len(self.level), np.int8)])

    def set_limits(self, row: int, limits: Limits) -> None:
        """Gives one group limits of its own, in the rule's direction; a severity they leave out stays the rule's."""
        for severity, limit in ((WARNING, limits.warning), (CRITICAL, limits.critical)):
            if limit is None:
                continue
            bound = Bound.of(limit)
            side = next((held for level, held in self._sides if level == severity), None)
            if side is None:
                side = _Side(Bound(bound.sign, np.inf, np.inf, 0.0))
                side.grow(len(self.level))
                self._sides = sorted([*self._sides, (severity, side)], key=lambda pair: pair[0])
            if bound.sign == side.sign:
                side.set(row, bound)

    def restore(self, row: int, level: int) -> None:
        """Puts a group back at the level it had before a restart."""
        for severity, side in self._sides:
            side.raised[row] = severity <= level
        self.level[row] = level

    def advance(self, now: float, values: F64) -> list[Transition]:
        """Takes the values of all groups at `now` (unix seconds; NaN where there is none)."""
        changed: list[Transition] = []
        for rows in _blocks(len(values)):
            changed.extend(self._advance_block(now, values[rows], rows))
        return changed

    def _advance_block(self, now: float, values: F64, rows: slice) -> Iterator[Transition]:
        known = ~np.isnan(values)
        after = np.zeros(len(values), np.int8)
        with np.errstate(invalid="ignore"):
            for severity, side in self._sides:
                side.advance(now, values, known, rows)
                after[side.raised[rows]] = severity
        before = self.level[rows]
        moved = np.flatnonzero(after != before)
        if not len(moved):
            return
        for i in moved.tolist():
            row = rows.start + i
            yield Transition(row, int(before[i]), int(after[i]), self._since(row, int(after[i]), now))
        self.level[rows] = after

    def _since(self, row: int, level: int, now: float) -> float:
        for severity, side in self._sides:
            if severity == level and not np.isnan(side.since[row]):
                return float(side.since[row])
        return now

    def bound_of(self, level: int, row: int) -> float:
        """The limit of a level for one group, in the metric's own unit."""
        for severity, side in self._sides:
            if severity == level:
                return float(side.sign * side.breach[row])
        return float("nan")


def _blocks(rows: int) -> Iterator[slice]:
    for start in range(0, rows, BLOCK):
        yield slice(start, min(start + BLOCK, rows))
