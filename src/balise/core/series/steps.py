"""Steps of time, and the tiers in which series are kept."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from balise.core.moments import NS, nanos

I64 = NDArray[np.int64]

TierName = Literal["raw", "5m", "1h"]
TIER_SECONDS: dict[TierName, int] = {"5m": 300, "1h": 3600}
TIERS = tuple(TIER_SECONDS)
SHORTEST_CHOSEN = 15.0
"""Seconds: no narrower step is chosen by itself, because hosts are read every 15 s."""
NICE_STEPS = (15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 10800, 21600, 43200, 86400)


@dataclass(frozen=True)
class Steps:
    """`count` stretches of `width` nanoseconds from `start` on."""

    start: int
    width: int
    count: int

    @property
    def end(self) -> int:
        return self.start + self.width * self.count

    def index(self, times: I64) -> I64:
        return (times - self.start) // self.width


def tier_of(seconds: int) -> TierName:
    """The tier whose steps are so many seconds wide."""
    return next(tier for tier in TIERS if TIER_SECONDS[tier] == seconds)


def whole_span(start: float, end: float) -> Steps:
    """One step for all of [start, end), unix seconds; of long spans to the hours, in which what is old is kept."""
    width = 3600 if end - start > 86_400 else 1
    first, last = start // width * width, -(-end // width) * width
    return Steps(nanos(first), max(1, nanos(last) - nanos(first)), 1)


def steps_between(start: float, end: float, *, step: float | None, points: int | None) -> Steps:
    """Steps that cover [start, end), unix seconds, aligned to their own width.

    Without `step` the narrowest even width is taken that gives at most `points` (300) steps.
    """
    if step is None:
        wanted = max((end - start) / (points or 300), SHORTEST_CHOSEN)
        step = next((s for s in NICE_STEPS if s >= wanted), float(-(-int(wanted) // 86400) * 86400))
    width = max(1, round(step * NS))
    first = nanos(start) // width * width
    count = max(1, -(-(nanos(end) - first) // width))
    return Steps(first, width, count)
