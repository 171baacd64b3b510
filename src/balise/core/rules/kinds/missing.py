"""Heard within the last week, and not now."""

from __future__ import annotations

import numpy as np

from balise.api.limits import Limit
from balise.api.spans import seconds
from balise.core.rules.kinds.kind import F64, Kind, Mask, shares
from balise.core.rules.look import Look

EXPECTED = 7 * 86_400.0
"""What was not heard for so many seconds is no longer expected."""


class Missing(Kind):
    """Not heard for longer than `quiet` seconds."""

    NUMBERS = ("quiet",)
    quiet: F64

    @staticmethod
    def numbers(limit: Limit) -> tuple[float, ...]:
        return (seconds(limit.missing_for or "0s"),)

    @staticmethod
    def never(numbers: tuple[float, ...]) -> tuple[float, ...]:
        return (np.inf,)

    def breached(self, look: Look, rows: slice) -> Mask:
        quiet = _quiet(look)
        return (quiet > self.quiet[rows]) & (quiet <= EXPECTED)

    def cleared(self, look: Look, rows: slice) -> Mask:
        quiet = _quiet(look)
        return (quiet <= self.quiet[rows]) | (quiet > EXPECTED)

    def known(self, look: Look) -> Mask:
        return ~np.isnan(_quiet(look))

    def bound(self, look: Look | None, row: int) -> float:
        return float(self.quiet[row])

    def nearness(self, look: Look, rows: slice) -> F64:
        return shares(_quiet(look), self.quiet[rows])


def _quiet(look: Look) -> F64:
    return np.full(len(look.values), np.nan) if look.quiet is None else look.quiet
