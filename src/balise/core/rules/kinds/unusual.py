"""Far from what is usual at this hour of the week."""

from __future__ import annotations

import numpy as np

from balise.api.limits import Limit
from balise.core.rules.kinds.kind import F64, Kind, Mask, shares
from balise.core.rules.look import Look, Usual


class Unusual(Kind):
    """More than `deviations` robust deviations from the middle, and more than `by`."""

    NUMBERS = ("deviations", "clear", "by")
    deviations: F64
    clear: F64
    by: F64

    def __init__(self, limit: Limit) -> None:
        self.side = limit.side or "both"
        super().__init__(limit)

    @staticmethod
    def numbers(limit: Limit) -> tuple[float, ...]:
        deviations = limit.unusual or np.inf
        clear = float(limit.clear) if isinstance(limit.clear, int | float) else deviations
        return deviations, clear, limit.by or 0.0

    @staticmethod
    def never(numbers: tuple[float, ...]) -> tuple[float, ...]:
        return np.inf, np.inf, 0.0

    def breached(self, look: Look, rows: slice) -> Mask:
        usual = _usual(look)
        return self._away(look.values, usual) > np.maximum(self.deviations[rows] * usual.spread, self.by[rows])

    def cleared(self, look: Look, rows: slice) -> Mask:
        usual = _usual(look)
        return self._away(look.values, usual) <= np.maximum(self.clear[rows] * usual.spread, self.by[rows])

    def known(self, look: Look) -> Mask:
        return ~np.isnan(look.values) & ~np.isnan(_usual(look).middle)

    def bound(self, look: Look | None, row: int) -> float:
        """From where on it is unusual, on the side where it is."""
        if look is None or look.usual is None:
            return float("nan")
        width = max(float(self.deviations[row] * look.usual.spread[row]), float(self.by[row]))
        middle = float(look.usual.middle[row])
        return middle - width if self.side == "below" or look.values[row] < middle else middle + width

    def nearness(self, look: Look, rows: slice) -> F64:
        usual = _usual(look)
        width = np.maximum(self.deviations[rows] * usual.spread, self.by[rows])
        return shares(self._away(look.values, usual), width)

    def widths(self, usual: Usual) -> F64:
        """How far from the middle is unusual [rows]."""
        return np.maximum(self.deviations * usual.spread, self.by)

    def _away(self, values: F64, usual: Usual) -> F64:
        away = values - usual.middle
        if self.side == "above":
            return away
        return -away if self.side == "below" else np.abs(away)


def _usual(look: Look) -> Usual:
    if look.usual is None:
        nothing = np.full(len(look.values), np.nan)
        return Usual(nothing, nothing)
    return look.usual
