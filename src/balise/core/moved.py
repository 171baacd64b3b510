"""How far series went from what they were before, and from what is usual at this time of the day.

Deviations are in units of how much a series varied before: robust ones, so that an outlier there hides nothing.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from balise.core.moments import NS, seconds_of
from balise.core.quantiles import median
from balise.core.rules.baseline import TO_SIGMA
from balise.core.series.steps import Steps

F64 = NDArray[np.float64]
LEAST_STEPS = 3
"""Of how many steps before, at least, one has to know something."""
LEAST_DAYS = 3
SHARE = 0.02
"""Of the larger of before and during, the least that counts as having moved by one."""
_OF_STANDARD = 0.5
"""Of the standard deviation, what varies at the least: where most steps are alike, the median distance is none."""
_LEAST: dict[str, float] = {"1": 0.01, "%": 1.0, "s": 0.002, "Cel": 1.0}
"""By unit what moves by one at the least, whatever else."""


@dataclass(frozen=True)
class Stretch:
    """Steps that begin before a stretch and end with it: those `before` it, and those `during` it."""

    steps: Steps
    before: slice
    during: slice

    @property
    def seconds(self) -> float:
        return float(self.during.stop - self.during.start) * seconds_of(self.steps.width)


def stretch_of(start: float, end: float, *, before: float, width: int) -> Stretch:
    """[start, end) and so many seconds `before` it, unix seconds, in steps of `width` seconds.

    A step belongs to the stretch when its middle does, and comes before it when all of it does.
    """
    first = math.floor((start - before) / width) * width
    count = math.ceil((end - first) / width)
    middles = first + (np.arange(count) + 0.5) * width
    inside = np.flatnonzero((middles >= start) & (middles < end))
    since, until = (int(inside[0]), int(inside[-1]) + 1) if len(inside) else (count - 1, count)
    whole = min(since, math.floor((start - first) / width))
    return Stretch(Steps(first * NS, width * NS, count), slice(0, whole), slice(since, until))


@dataclass(frozen=True)
class Moved:
    """Of each series, all [series]: the level before, the mean during the stretch, and by how much it is away.

    `deviation` is signed, and NaN where too little is known.
    """

    before: F64
    during: F64
    deviation: F64


def moved(before: F64, during: F64, unit: str, *, events: bool, seconds: float) -> Moved:
    """Compares the steps of a stretch with those before it.

    Args:
        before: [series, steps], NaN where there is nothing.
        during: [series, steps] of the stretch, which lasts so many `seconds`.
        unit: of the values, as UCUM writes it.
        events: whether the values are events a second, of which a few more or fewer are chance.
    """
    with np.errstate(all="ignore"):
        middle = median(before)
        level = _mean(during)
        deviation = (level - middle) / _spread(before, middle, level, unit, events=events, seconds=seconds)
    enough = (~np.isnan(before)).sum(axis=1) >= LEAST_STEPS
    return Moved(middle, level, np.where(enough & np.isfinite(deviation), deviation, np.nan))


def against_usual(found: Moved, days: F64, unit: str, *, events: bool, seconds: float) -> F64:
    """The deviations with what was at the same time of the days before taken into account, [series].

    What does the same each day has not moved: of both deviations the smaller counts, and none when they disagree about
    the direction.

    Args:
        days: the mean of the same stretch of each of the last days [series, days].
    """
    with np.errstate(all="ignore"):
        middle = median(days)
        spread = _spread(days, middle, found.during, unit, events=events, seconds=seconds)
        other = (found.during - middle) / spread
        smaller = np.sign(found.deviation) * np.minimum(np.abs(found.deviation), np.abs(other))
        both = np.where(np.sign(found.deviation) == np.sign(other), smaller, 0.0)
    known = (~np.isnan(days)).sum(axis=1) >= LEAST_DAYS
    return np.where(known & np.isfinite(both), both, found.deviation)


def least_of(unit: str) -> float:
    """By how much what has a unit moves at the least to be worth a look; of counted things it is half of one."""
    return 0.5 if unit.startswith("{") and "/" not in unit else _LEAST.get(unit, 0.0)


def _spread(steps: F64, middle: F64, level: F64, unit: str, *, events: bool, seconds: float) -> F64:
    """By how much each series varies, never less than what its unit and its size make worth a look."""
    around = TO_SIGMA * median(np.abs(steps - middle[:, None]))
    known = ~np.isnan(steps)
    count = known.sum(axis=1)
    filled = np.where(known, steps - np.where(np.isnan(middle), 0.0, middle)[:, None], 0.0)
    mean = filled.sum(axis=1) / count
    standard = np.sqrt(np.maximum((filled**2).sum(axis=1) / count - mean**2, 0.0))
    least = least_of(unit)
    share = SHARE * np.maximum(np.abs(middle), np.abs(level))
    spread = np.fmax(np.fmax(np.nan_to_num(around), _OF_STANDARD * standard), np.fmax(least, share))
    if events:
        # So many events in a stretch come and go by chance alone (Poisson).
        spread = np.fmax(spread, np.sqrt(np.abs(middle) * seconds + 1) / seconds)
    return np.where(spread > 0, spread, np.nan)


def _mean(values: F64) -> F64:
    known = ~np.isnan(values)
    count = known.sum(axis=1)
    return np.where(count > 0, np.where(known, values, 0.0).sum(axis=1) / np.maximum(count, 1), np.nan)
