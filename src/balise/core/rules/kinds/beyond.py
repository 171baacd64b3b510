"""Above or below a number."""

from __future__ import annotations

import numpy as np

from balise.api.limits import Limit
from balise.core.rules.kinds.kind import F64, Kind, Mask, shares
from balise.core.rules.look import Look


class Beyond(Kind):
    """`sign` -1 turns a limit below into one above."""

    NUMBERS = ("breach", "clear")
    breach: F64
    clear: F64

    def __init__(self, limit: Limit) -> None:
        self.sign = _sign(limit)
        super().__init__(limit)

    @staticmethod
    def numbers(limit: Limit) -> tuple[float, ...]:
        sign = _sign(limit)
        breach = limit.above if limit.above is not None else limit.below
        clear = breach if limit.clear is None else limit.clear
        return sign * float(breach or 0.0), sign * float(clear or 0.0)  # type: ignore[arg-type]

    @staticmethod
    def never(numbers: tuple[float, ...]) -> tuple[float, ...]:
        return np.inf, np.inf

    def breached(self, look: Look, rows: slice) -> Mask:
        return self._signed(look.values) > self.breach[rows]

    def cleared(self, look: Look, rows: slice) -> Mask:
        return self._signed(look.values) <= self.clear[rows]

    def bound(self, look: Look | None, row: int) -> float:
        return float(self.sign * self.breach[row])

    def nearness(self, look: Look, rows: slice) -> F64:
        limit = self.breach[rows]
        if self.sign > 0:
            return shares(look.values, limit)
        return shares(-limit, look.values)

    def _signed(self, values: F64) -> F64:
        return values if self.sign > 0 else -values


def _sign(limit: Limit) -> float:
    return 1.0 if limit.above is not None else -1.0
