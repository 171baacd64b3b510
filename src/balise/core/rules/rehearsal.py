"""Running a rule over history: when would it have opened, and for how long."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from balise.api.limits import Limits
from balise.core.rules.limits import OK, LimitMachine
from balise.core.rules.look import Look
from balise.core.rules.measuring import Measuring

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]


@dataclass(frozen=True)
class Breach:
    """One alert that would have been: group, worst level, from when to when (None: still open), worst value."""

    group: int
    level: int
    opened_at: float
    recovered_at: float | None
    worst_value: float
    changes: tuple[tuple[float, int], ...]
    bound: float = float("nan")
    """The limit that was breached, of the worst level."""


@dataclass(frozen=True)
class Arrivals:
    """Points of several series in order of time: `rows` int64 [n], `times` unix seconds [n], `values` [n]."""

    rows: I64
    times: F64
    values: F64


def play(measuring: Measuring, found: Arrivals, moments: F64, behind: F64) -> Iterator[tuple[float, F64]]:
    """What each group measures at each of some ascending moments, as if the points had come when they were made.

    Args:
        behind: seconds by which the clock of each series is behind ours [rows].
    """
    arrived = found.times + behind[found.rows] if len(found.rows) else found.times
    order = np.argsort(arrived, kind="stable")
    ends = np.searchsorted(arrived[order], moments, side="right")
    begin = 0
    for at, end in zip(moments.tolist(), ends.tolist(), strict=True):
        if end > begin:
            new = order[begin:end]
            measuring.observe(found.rows[new], found.times[new], found.values[new], at)
            begin = end
        yield at, measuring.values(at, behind)


@dataclass(frozen=True)
class Part:
    """What is played of one metric of a rule: its series, their points, and by how much their clocks are behind."""

    measuring: Measuring
    found: Arrivals
    behind: F64


def play_together(parts: Mapping[str, Part], moments: F64) -> Iterator[tuple[float, dict[str, F64]]]:
    """`play` of several metrics at once: at each moment the values of each, by its name."""
    playing = {name: play(part.measuring, part.found, moments, part.behind) for name, part in parts.items()}
    for at in moments.tolist():
        yield at, {name: next(values)[1] for name, values in playing.items()}


class Rehearsing:
    """Notes the breaches of groups while their values are handed in, moment by moment."""

    def __init__(self, machine: LimitMachine, worse: Callable[[float, float], float] = max) -> None:
        self._machine = machine
        self._worse = worse
        self._open: dict[int, _Open] = {}
        self._ended: list[Breach] = []

    def take(self, at: float, look: Look | F64, shown: F64 | None = None) -> None:
        """What is known of each group at a moment, unix seconds, and the values that alerts would tell [groups]."""
        whole = look if isinstance(look, Look) else Look(look)
        values = shown if shown is not None else whole.values
        for change in self._machine.advance(at, whole):
            if change.after == OK:
                self._ended.append(self._open.pop(change.row).end(change.row, at))
                continue
            bound = self._machine.bound_of(change.after, change.row, whole)
            if change.row in self._open:
                self._open[change.row].change(at, change.after, bound)
            else:
                self._open[change.row] = _Open(at, change.after, float(values[change.row]), bound)
        for row, held in self._open.items():
            if not np.isnan(values[row]):
                held.value = self._worse(held.value, float(values[row]))

    def breaches(self) -> list[Breach]:
        """All breaches so far, in the order in which they opened."""
        found = [*self._ended, *(held.end(row, None) for row, held in self._open.items())]
        return sorted(found, key=lambda breach: (breach.opened_at, breach.group))


class _Open:
    def __init__(self, at: float, level: int, value: float, bound: float) -> None:
        self.at, self.level, self.value, self.bound = at, level, value, bound
        self.changes = [(at, level)]

    def change(self, at: float, level: int, bound: float) -> None:
        if level > self.level:
            self.level, self.bound = level, bound
        self.changes.append((at, level))

    def end(self, group: int, at: float | None) -> Breach:
        return Breach(group, self.level, self.at, at, self.value, tuple(self.changes), self.bound)


def rehearse(limits: Limits, times: NDArray[np.float64], values: NDArray[np.float64]) -> list[Breach]:
    """The breaches, in the order in which they opened.

    Args:
        times: unix seconds, ascending [steps]: the moments at which the rule is asked.
        values: what each group measures then, NaN for nothing [groups, steps].
    """
    rehearsing = Rehearsing(LimitMachine(limits, len(values)), min if limits.kind == "below" else max)
    for step, at in enumerate(times.tolist()):
        rehearsing.take(at, values[:, step])
    return rehearsing.breaches()
