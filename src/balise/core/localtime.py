"""Times without a zone, as a clock on a wall shows them."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime, timedelta, timezone, tzinfo

FromLocal = Callable[[datetime, float], float]
"""Unix seconds of a time without a zone; of the two that an hour shown twice may mean, the one nearer to a moment."""


def of_zone(zone: tzinfo) -> FromLocal:
    """How times are read that were written in a zone, with its summer time."""

    def from_local(shown: datetime, near: float) -> float:
        both = [shown.replace(tzinfo=zone, fold=fold).timestamp() for fold in (0, 1)]
        return min(both, key=lambda at: abs(at - near))

    return from_local


in_utc = of_zone(UTC)


def of_offset(text: str) -> FromLocal:
    """`of_offset("+0230")`: a fixed distance from UTC as `date +%z` tells it; UTC for what is none."""
    try:
        sign, hours, minutes = -1 if text[0] == "-" else 1, int(text[1:3]), int(text[3:5])
        return of_zone(timezone(sign * timedelta(hours=hours, minutes=minutes)))
    except (ValueError, IndexError):
        return in_utc
