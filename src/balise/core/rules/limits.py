"""Limits with hold and clear, for all groups of a rule at once."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from balise.api.limits import Limit, Limits
from balise.api.spans import seconds
from balise.core.rules.kinds.kind import Kind
from balise.core.rules.kinds.making import Setting, kind_of
from balise.core.rules.look import Look
from balise.core.rules.room import Room
from balise.core.series.portions import has_any

F64 = NDArray[np.float64]
Mask = NDArray[np.bool_]
OK, WARNING, CRITICAL = 0, 1, 2
LEVEL_NAMES = ("ok", "warning", "critical")
BLOCK = 16_384
"""Rows worked on together, so that what is touched stays in the processor's cache."""


@dataclass(frozen=True)
class Transition:
    """Group `row` went from one level to another; `since` is when its breach began."""

    row: int
    before: int
    after: int
    since: float


class _Side:
    """One severity of all rows: its limit, since when breached (NaN if not), and whether raised.

    A row is `busy` while it is breached or raised; only such rows have anything to end.
    """

    def __init__(self, limit: Limit, severity: int, setting: Setting) -> None:
        self.kind = kind_of(limit, severity, setting)
        self.hold = np.empty(0)
        self.since = np.empty(0)
        self.raised = np.empty(0, bool)
        self.busy = np.empty(0, bool)
        self.moved = False
        self._own_hold = seconds(limit.hold)
        self._room = Room({"hold": self._own_hold, "since": np.nan, "raised": False, "busy": False})

    def grow(self, rows: int) -> None:
        more = rows - len(self.raised)
        vars(self).update(self._room.grow(vars(self), more))
        self.kind.grow(more)

    def set(self, row: int, limit: Limit) -> None:
        self.kind.set(row, limit)
        self.hold[row] = seconds(limit.hold)

    def reset(self, row: int) -> None:
        self.kind.reset(row)
        self.hold[row] = self._own_hold

    def put(self, row: int, *, since: float | None = None, raised: bool | None = None) -> None:
        """Puts one row where it is known to have been."""
        self.since[row] = self.since[row] if since is None else since
        self.raised[row] = self.raised[row] if raised is None else raised
        self.busy[row] = True

    def advance(self, now: float, look: Look, rows: slice) -> bool:
        """Takes what is known of some rows; answers whether any of the rows is raised."""
        breached = self.kind.breached(look, rows)
        busy = self.busy[rows]
        if not (has_any(breached) or has_any(busy)):
            return False
        since, raised = self.since[rows], self.raised[rows]
        begun = ~np.isnan(since)
        fresh, over = breached & ~begun, begun & self.kind.known(look) & ~breached
        self.moved = self.moved or has_any(fresh) or has_any(over)
        since[fresh] = now
        since[over] = np.nan
        if has_any(raised):
            raised &= ~self.kind.cleared(look, rows)
        raised |= breached & (now - since >= self.hold[rows])
        np.logical_or(raised, ~np.isnan(since), out=busy)
        return has_any(raised)


class LimitMachine:
    """Levels of `rows` groups of one rule. A group without a value keeps its level."""

    def __init__(self, limits: Limits, rows: int = 0, setting: Setting | None = None) -> None:
        self._setting = setting or Setting()
        self._of_kind = limits.kind
        said = ((WARNING, limits.warning), (CRITICAL, limits.critical))
        self._sides = [(level, _Side(limit, level, self._setting)) for level, limit in said if limit is not None]
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
        """Gives one group limits of its own, of the rule's kind; a severity they leave out stays the rule's."""
        for severity, limit in ((WARNING, limits.warning), (CRITICAL, limits.critical)):
            if limit is None or limit.kind != self._of_kind:
                continue
            side = self._side(severity)
            if side is None:
                side = _Side(limit, severity, self._setting)
                side.kind.disable()
                side.grow(len(self.level))
                self._sides = sorted([*self._sides, (severity, side)], key=lambda pair: pair[0])
            side.set(row, limit)

    def _side(self, severity: int) -> _Side | None:
        return next((side for level, side in self._sides if level == severity), None)

    def reset_limits(self, row: int) -> None:
        """Gives a group the rule's own limits again."""
        for _, side in self._sides:
            side.reset(row)

    def silence(self, row: int) -> None:
        """A group is in no breach, whatever it measures, until its limits are set anew."""
        for _, side in self._sides:
            side.kind.silence(row)

    def nearness_of(self, look: Look, row: int) -> float:
        """How near one group is to its nearest limit, 0 far away or not known, 1 at it, more beyond it; `look` is of it
        alone."""
        rows = slice(row, row + 1)
        return max(float(side.kind.nearness(look, rows)[0]) for _, side in self._sides)

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

    def advance(self, now: float, look: Look | F64) -> list[Transition]:
        """`propose`, and the levels are taken at once."""
        changed = self.propose(now, look)
        for change in changed:
            self.settle(change)
        return changed

    def settle(self, change: Transition) -> None:
        """A change of level is written: from now on it is the group's level."""
        self.level[change.row] = change.after

    def propose(self, now: float, look: Look | F64) -> list[Transition]:
        """Takes what is known of all groups at `now` (unix seconds), or their values alone; answers the levels that
        have to change. The same changes are proposed again until they are settled."""
        whole = look if isinstance(look, Look) else Look(look)
        changed: list[Transition] = []
        with np.errstate(invalid="ignore"):
            for rows in _blocks(len(whole.values)):
                part = whole if len(whole.values) <= BLOCK else whole.part(rows)
                changed.extend(self._propose_block(now, part, rows))
        return changed

    def _propose_block(self, now: float, look: Look, rows: slice) -> Iterator[Transition]:
        after = np.zeros(len(look.values), np.int8)
        for severity, side in self._sides:
            if side.advance(now, look, rows):
                after[side.raised[rows]] = severity
        before = self.level[rows]
        for i in (after != before).nonzero()[0].tolist():
            row = rows.start + i
            yield Transition(row, int(before[i]), int(after[i]), _begun(self._sides, row, int(after[i]), now))

    def bound_of(self, level: int, row: int, look: Look | None = None) -> float:
        """The limit of a level for one group, in the unit of what its alert tells; NaN where there is none."""
        side = self._side(level)
        return side.kind.bound(look, row) if side is not None else float("nan")

    def kind(self, level: int) -> Kind | None:
        """The limit of a severity."""
        side = self._side(level)
        return side.kind if side is not None else None


def _blocks(rows: int) -> Iterator[slice]:
    for start in range(0, rows, BLOCK):
        yield slice(start, min(start + BLOCK, rows))


def _begun(sides: list[tuple[int, _Side]], row: int, level: int, now: float) -> float:
    """When the breach of a group that takes it to a level began; now, if none did."""
    for severity, side in sides:
        if severity == level and not np.isnan(side.since[row]):
            return float(side.since[row])
    return now
