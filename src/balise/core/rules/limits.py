"""Limits with hold and clear, for all groups of a rule at once."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from balise.api.rules import Limit, Limits
from balise.api.spans import seconds
from balise.core.rules.room import Room

F64 = NDArray[np.float64]
Mask = NDArray[np.bool_]
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
    """One severity of all rows: its bounds, since when breached (NaN if not), and whether raised.

    A row is `busy` while it is breached or raised; only such rows have anything to end.
    """

    def __init__(self, base: Bound) -> None:
        self.base = base
        self.sign = base.sign
        self.breach = np.empty(0)
        self.clear = np.empty(0)
        self.hold = np.empty(0)
        self.since = np.empty(0)
        self.raised = np.empty(0, bool)
        self.busy = np.empty(0, bool)
        self.moved = False
        bounds = {"breach": base.breach, "clear": base.clear, "hold": base.hold}
        self._room = Room({**bounds, "since": np.nan, "raised": False, "busy": False})

    def grow(self, rows: int) -> None:
        vars(self).update(self._room.grow(vars(self), rows - len(self.raised)))

    def set(self, row: int, bound: Bound) -> None:
        self.breach[row], self.clear[row], self.hold[row] = bound.breach, bound.clear, bound.hold

    def put(self, row: int, *, since: float | None = None, raised: bool | None = None) -> None:
        """Puts one row where it is known to have been."""
        self.since[row] = self.since[row] if since is None else since
        self.raised[row] = self.raised[row] if raised is None else raised
        self.busy[row] = True

    def advance(self, now: float, values: F64, rows: slice) -> bool:
        """Takes values of some rows, NaN for none; answers whether any of the rows is raised."""
        signed = values if self.sign > 0 else -values
        breached = signed > self.breach[rows]
        busy = self.busy[rows]
        if not (breached.any() or busy.any()):
            return False
        since, raised = self.since[rows], self.raised[rows]
        begun = ~np.isnan(since)
        fresh, over = breached & ~begun, begun & ~np.isnan(values) & ~breached
        self.moved = self.moved or bool(fresh.any()) or bool(over.any())
        since[fresh] = now
        since[over] = np.nan
        if raised.any():
            raised &= ~(signed <= self.clear[rows])
        raised |= breached & (now - since >= self.hold[rows])
        np.logical_or(raised, ~np.isnan(since), out=busy)
        return bool(raised.any())


class LimitMachine:
    """Levels of `rows` groups of one rule. A group without a value keeps its level."""

    def __init__(self, limits: Limits, rows: int = 0) -> None:
        self._sides: list[tuple[int, _Side]] = []
        if limits.warning:
            self._sides.append((WARNING, _Side(Bound.of(limits.warning))))
        if limits.critical:
            self._sides.append((CRITICAL, _Side(Bound.of(limits.critical))))
        self.level = np.empty(0, np.int8)
        self._room = Room({"level": OK})
        self.grow(rows)

    def grow(self, rows: int) -> None:
        """Makes room for `rows` groups; the new ones are ok and have the rule's own limits."""
        if rows > len(self.level):
            for _, side in self._sides:
                side.grow(rows)
            vars(self).update(self._room.grow(vars(self), rows - len(self.level)))

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

    def reset_limits(self, row: int) -> None:
        """Gives a group the rule's own limits again."""
        for _, side in self._sides:
            side.set(row, side.base)

    def restore(self, row: int, level: int) -> None:
        """Puts a group at a level that is written, as after a restart."""
        for severity, side in self._sides:
            side.put(row, raised=severity <= level)
        self.level[row] = level

    def clear(self, row: int) -> None:
        """A group is gone: it is ok, and no breach of it lasts."""
        for _, side in self._sides:
            side.put(row, since=np.nan, raised=False)
        self.level[row] = OK

    def breaches(self) -> dict[int, list[float]]:
        """Since when the groups that are breached now have been, warning and critical, NaN where they are not."""
        found: dict[int, list[float]] = {}
        for severity, side in self._sides:
            for row in np.flatnonzero(~np.isnan(side.since)).tolist():
                found.setdefault(row, [float("nan"), float("nan")])[severity - 1] = float(side.since[row])
        return found

    def breaches_of(self, row: int) -> list[float]:
        """`breaches` of one group."""
        since = [float("nan"), float("nan")]
        for severity, side in self._sides:
            since[severity - 1] = float(side.since[row])
        return since

    def take_moved(self) -> bool:
        """Whether any breach began or ended since this was asked last."""
        moved = any(side.moved for _, side in self._sides)
        for _, side in self._sides:
            side.moved = False
        return moved

    def resume(self, row: int, since: Sequence[float]) -> None:
        """What `breaches` told of a group before: its holds go on from there."""
        for severity, side in self._sides:
            side.put(row, since=since[severity - 1])

    def advance(self, now: float, values: F64) -> list[Transition]:
        """`propose`, and the levels are taken at once."""
        changed = self.propose(now, values)
        for change in changed:
            self.settle(change)
        return changed

    def settle(self, change: Transition) -> None:
        """A change of level is written: from now on it is the group's level."""
        self.level[change.row] = change.after

    def propose(self, now: float, values: F64) -> list[Transition]:
        """Takes the values of all groups at `now` (unix seconds; NaN where there is none); answers the levels that
        have to change. The same changes are proposed again until they are settled."""
        changed: list[Transition] = []
        with np.errstate(invalid="ignore"):
            for rows in _blocks(len(values)):
                changed.extend(self._propose_block(now, values[rows], rows))
        return changed

    def _propose_block(self, now: float, values: F64, rows: slice) -> Iterator[Transition]:
        after = np.zeros(len(values), np.int8)
        for severity, side in self._sides:
            if side.advance(now, values, rows):
                after[side.raised[rows]] = severity
        before = self.level[rows]
        for i in np.flatnonzero(after != before).tolist():
            row = rows.start + i
            yield Transition(row, int(before[i]), int(after[i]), _begun(self._sides, row, int(after[i]), now))

    def bound_of(self, level: int, row: int) -> float:
        """The limit of a level for one group, in the metric's own unit."""
        for severity, side in self._sides:
            if severity == level:
                return float(side.sign * side.breach[row])
        return float("nan")


def _blocks(rows: int) -> Iterator[slice]:
    for start in range(0, rows, BLOCK):
        yield slice(start, min(start + BLOCK, rows))


def _begun(sides: list[tuple[int, _Side]], row: int, level: int, now: float) -> float:
    """When the breach of a group that takes it to a level began; now, if none did."""
    for severity, side in sides:
        if severity == level and not np.isnan(side.since[row]):
            return float(side.since[row])
    return now
