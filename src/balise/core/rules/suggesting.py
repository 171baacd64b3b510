"""Limits that suit what was measured."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

F64 = NDArray[np.float64]
TRIES = 40
LOOKED_AT = 60
INTO = 0.3
"""How far into the stretch of bounds that have the same breaches."""


@dataclass(frozen=True)
class Suggested:
    """Bounds above which there were few enough breaches; how many there were, and how clearly they stand out."""

    warning: float
    critical: float
    opened: int
    separates: float


def suggested(times: F64, values: F64, hold: float, most: float, most_critical: float) -> Suggested | None:
    """Round numbers above which groups would have been in breach at most so often; None of nothing.

    Of all bounds that would have had the same breaches it is one well above the lowest, so that what is usual does not
    touch it by chance.

    Args:
        times: unix seconds [times].
        values: what groups measured then, NaN for nothing; high is bad [groups, times].
        hold: how many seconds a breach has to last.
    """
    known = values[~np.isnan(values)]
    if not len(known):
        return None
    low = _lowest(times, values, hold, most, known)
    lowest, highest = _widest(times, values, hold, low, float(known.max()))
    warning = rounded_up(lowest + INTO * (highest - lowest))
    critical = max(warning, rounded_up(_lowest(times, values, hold, most_critical, known)))
    height = lowest - float(np.median(known))
    opened = openings(times, values, warning, hold)
    separates = (highest - lowest) / height if opened and height > 0 else 0.0
    return Suggested(warning, critical, opened, separates)


def _lowest(times: F64, values: F64, hold: float, most: float, known: F64) -> float:
    """The lowest bound with at most so many breaches; by halving an interval, as a higher bound has fewer of them, but
    for those that one splits in two."""
    low, high = float(np.median(known)), float(known.max())
    if openings(times, values, low, hold) <= most:
        return low
    return _halved(low, high, lambda bound: openings(times, values, bound, hold) <= most)


def _widest(times: F64, values: F64, hold: float, low: float, high: float) -> tuple[float, float]:
    """The widest stretch of bounds that have the same breaches, and have any."""
    bounds = np.linspace(low, high, LOOKED_AT)
    counts = [openings(times, values, float(bound), hold) for bound in bounds]
    best = (low, low)
    begin = 0
    for i in range(1, LOOKED_AT + 1):
        if i == LOOKED_AT or counts[i] != counts[begin]:
            stretch = (float(bounds[begin]), float(bounds[i - 1]))
            if counts[begin] and stretch[1] - stretch[0] > best[1] - best[0]:
                best = stretch
            begin = i
    return best


def _halved(low: float, high: float, holds: Callable[[float], bool]) -> float:
    """The lowest number of an interval from which on something holds, as it does at its end."""
    for _ in range(TRIES):
        if high - low <= 1e-3 * max(abs(high), abs(low), 1e-12):
            break
        middle = (low + high) / 2
        if holds(middle):
            high = middle
        else:
            low = middle
    return high


def openings(times: F64, values: F64, bound: float, hold: float) -> int:
    """How often a group would have been above a bound for as long as `hold`, all together."""
    above = values > bound
    if not above.any():
        return 0
    edges = np.diff(np.pad(above.astype(np.int8), ((0, 0), (1, 1))), axis=1)
    begins, ends = np.nonzero(edges == 1)[1], np.nonzero(edges == -1)[1]
    if hold <= 0:
        return len(begins)
    lasted = times[ends - 1] - times[begins]
    return int((lasted >= hold).sum())


def rounded_up(value: float) -> float:
    """`rounded_up(0.9034) == 0.91`: to two digits that count, never down."""
    if value == 0 or not math.isfinite(value):
        return value
    unit = 10.0 ** (math.floor(math.log10(abs(value))) - 1)
    return float(f"{math.ceil(value / unit - 1e-9) * unit:.6g}")
