"""Seen for the first time in a long while."""

from __future__ import annotations

import numpy as np

from balise.api.limits import Limit
from balise.core.rules.kinds.kind import F64, Kind, Mask
from balise.core.rules.look import Look


class FirstSeen(Kind):
    """First seen no longer ago than `news` seconds."""

    NUMBERS = ("news",)
    news: F64

    def __init__(self, limit: Limit, *, news: float) -> None:
        super().__init__(limit, (news,))

    @staticmethod
    def numbers(limit: Limit) -> tuple[float, ...]:
        return (0.0,)

    @staticmethod
    def never(numbers: tuple[float, ...]) -> tuple[float, ...]:
        return (-1.0,)

    def set(self, row: int, limit: Limit) -> None:
        """How long something is news is the rule's, not the limit's."""
        self.reset(row)

    def breached(self, look: Look, rows: slice) -> Mask:
        return _fresh(look) <= self.news[rows]

    def cleared(self, look: Look, rows: slice) -> Mask:
        return _fresh(look) > self.news[rows]

    def known(self, look: Look) -> Mask:
        return ~np.isnan(_fresh(look))

    def bound(self, look: Look | None, row: int) -> float:
        return 0.0

    def nearness(self, look: Look, rows: slice) -> F64:
        return np.where(self.breached(look, rows), 1.0, 0.0)


def _fresh(look: Look) -> F64:
    return np.full(len(look.values), np.nan) if look.fresh is None else look.fresh
