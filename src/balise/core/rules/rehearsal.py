"""Running a rule over history: when would it have opened, and for how long."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from balise.api.rules import Limits
from balise.core.rules.limits import OK, LimitMachine


@dataclass(frozen=True)
class Breach:
    """One alert that would have been: group, worst level, from when to when (None: still open), worst value."""

    group: int
    level: int
    opened_at: float
    recovered_at: float | None
    worst_value: float
    changes: tuple[tuple[float, int], ...]


class _Open:
    def __init__(self, at: float, level: int, value: float) -> None:
        self.at, self.level, self.value = at, level, value
        self.changes = [(at, level)]

    def change(self, at: float, level: int) -> None:
        self.level = max(self.level, level)
        self.changes.append((at, level))

    def end(self, group: int, at: float | None) -> Breach:
        return Breach(group, self.level, self.at, at, self.value, tuple(self.changes))


def rehearse(limits: Limits, times: NDArray[np.float64], values: NDArray[np.float64]) -> list[Breach]:
    """The breaches, in the order in which they opened.

    Args:
        times: unix seconds, ascending [steps]: the moments at which the rule is asked.
        values: what each group measures then, NaN for nothing [groups, steps].
    """
    machine = LimitMachine(limits, len(values))
    below = limits.warning.below if limits.warning else limits.critical.below if limits.critical else None
    worse = min if below is not None else max
    open_now: dict[int, _Open] = {}
    ended: list[Breach] = []
    for step, at in enumerate(times.tolist()):
        column = values[:, step]
        for change in machine.advance(at, column):
            if change.after == OK:
                ended.append(open_now.pop(change.row).end(change.row, at))
            elif change.row in open_now:
                open_now[change.row].change(at, change.after)
            else:
                open_now[change.row] = _Open(at, change.after, float(column[change.row]))
        for row, held in open_now.items():
            if not np.isnan(column[row]):
                held.value = worse(held.value, float(column[row]))
    ended.extend(held.end(row, None) for row, held in open_now.items())
    return sorted(ended, key=lambda breach: (breach.opened_at, breach.group))
