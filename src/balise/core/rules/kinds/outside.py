"""Outside a range."""

from __future__ import annotations

import numpy as np

from balise.api.limits import Limit
from balise.core.rules.kinds.kind import F64, Kind, Mask, shares
from balise.core.rules.look import Look


class Outside(Kind):
    """Below the one or above the other of two numbers."""

    NUMBERS = ("low", "high", "clear_low", "clear_high")
    low: F64
    high: F64
    clear_low: F64
    clear_high: F64

    @staticmethod
    def numbers(limit: Limit) -> tuple[float, ...]:
        low, high = limit.outside or (-np.inf, np.inf)
        clear = limit.clear if isinstance(limit.clear, list) else (low, high)
        return low, high, clear[0], clear[1]

    @staticmethod
    def never(numbers: tuple[float, ...]) -> tuple[float, ...]:
        return -np.inf, np.inf, -np.inf, np.inf

    def breached(self, look: Look, rows: slice) -> Mask:
        return (look.values < self.low[rows]) | (look.values > self.high[rows])

    def cleared(self, look: Look, rows: slice) -> Mask:
        return (look.values >= self.clear_low[rows]) & (look.values <= self.clear_high[rows])

    def bound(self, look: Look | None, row: int) -> float:
        """The nearer of the two."""
        low, high = float(self.low[row]), float(self.high[row])
        value = float(look.values[row]) if look is not None else high
        return low if abs(value - low) < abs(value - high) else high

    def nearness(self, look: Look, rows: slice) -> F64:
        half = (self.high[rows] - self.low[rows]) / 2
        return shares(np.abs(look.values - self.low[rows] - half), half)
