"""Going towards a value that it will reach soon."""

from __future__ import annotations

import numpy as np

from balise.api.limits import Limit
from balise.api.spans import seconds
from balise.core.rules.kinds.kind import F64, Kind, Mask, shares
from balise.core.rules.look import Look


class RunningOut(Kind):
    """Its trend reaches `at` within `within` seconds. Without `at`, the value is the seconds that are left."""

    NUMBERS = ("within", "clear", "at")
    within: F64
    clear: F64
    at: F64

    def __init__(self, limit: Limit, severity: int, *, at: float | None) -> None:
        """`at` is what holds where a limit does not say; None: the value itself is the time left."""
        self._place = severity - 1
        within, clear, said = self.numbers(limit)
        usual = np.nan if at is None else at
        super().__init__(limit, (within, clear, usual if limit.at is None else said))

    @property
    def own_at(self) -> float | None:
        """At which value it has run out by the rule; None where the value itself is the time that is left."""
        return None if np.isnan(self._own[2]) else self._own[2]

    @staticmethod
    def numbers(limit: Limit) -> tuple[float, ...]:
        within = seconds(limit.runs_out_within or "0s")
        clear = seconds(limit.clear) if isinstance(limit.clear, str) else within
        return within, clear, np.nan if limit.at is None else limit.at

    @staticmethod
    def never(numbers: tuple[float, ...]) -> tuple[float, ...]:
        return -1.0, -1.0, numbers[2]

    def set(self, row: int, limit: Limit) -> None:
        within, clear, at = self.numbers(limit)
        self._put(row, (within, clear, self._own[2] if np.isnan(at) else at))

    def breached(self, look: Look, rows: slice) -> Mask:
        return self.left(look, rows) <= self.within[rows]

    def cleared(self, look: Look, rows: slice) -> Mask:
        return self.left(look, rows) > self.clear[rows]

    def known(self, look: Look) -> Mask:
        course = look.courses[self._place]
        return ~np.isnan(look.values if course is None else course.level)

    def bound(self, look: Look | None, row: int) -> float:
        return float(self.within[row] if np.isnan(self.at[row]) else self.at[row])

    def nearness(self, look: Look, rows: slice) -> F64:
        with np.errstate(all="ignore"):
            return shares(self.within[rows], self.left(look, rows))

    def left(self, look: Look, rows: slice) -> F64:
        """How many seconds are left: 0 when it is there, infinite when it does not go there, NaN if not known."""
        at, course = self.at[rows], look.courses[self._place]
        if course is None:
            return look.values if bool(np.isnan(at).all()) else np.where(np.isnan(at), look.values, np.nan)
        with np.errstate(all="ignore"):
            left = (at - course.level) / course.slope
        # A trend that stands still, or goes away from it, never gets there.
        left = np.where(left < 0, np.inf, left)
        return np.where(np.isnan(course.level), np.nan, np.where(np.isnan(left), np.inf, left))
