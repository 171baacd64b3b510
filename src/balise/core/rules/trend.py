"""Robust trends of many lines at once.

The slope is the median of the slopes between all pairs of points (Theil 1950, Sen 1968), with the limits that Sen gives
from Kendall's tau; so a third of the points may be anything.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from balise.core.quantiles import median

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
Mask = NDArray[np.bool_]
LEAST_POINTS = 6
SURE = 3.29
"""Of the normal distribution: 999 of 1000 lie within so many deviations. Trends are looked at again and again."""
AT_ONCE = 2_000_000
"""Pairs that are worked on together."""
A_DROP, A_JUMP = 0.3, 0.5
"""Of all that a line varies, so much from one point to the next is a drop or a jump; within two steps, too."""
STEADY = 0.6
QUICKER = 1.2
LEAD = 0.02
LATELY = 12
"""Points of the newest climb that is looked at by itself."""
AHEAD = 1.0
"""How many times further ahead than it was seen back a trend is trusted."""


@dataclass(frozen=True)
class Trends:
    """Trends of lines, [lines]; NaN where there are too few points.

    `level` is where the trend stands now, `slope` its change a second, `slowest` and `fastest` its limits, `wobble` the
    median distance of the points from it, `fit` how much of their variation it explains, 0 to 1, and `span` over how
    many seconds it was seen.
    """

    level: F64
    slope: F64
    slowest: F64
    fastest: F64
    wobble: F64
    fit: F64
    span: F64

    @staticmethod
    def none(lines: int) -> Trends:
        return Trends(*(np.full(lines, np.nan) for _ in range(7)))

    def where(self, mine: Mask, others: Trends) -> Trends:
        """These where `mine` is, the others elsewhere."""
        return Trends(*(np.where(mine, a, b) for a, b in zip(self._all(), others._all(), strict=True)))

    def put(self, rows: I64, others: Trends) -> None:
        """Puts those of some lines in their places."""
        for mine, other in zip(self._all(), others._all(), strict=True):
            mine[rows] = other

    def _all(self) -> tuple[F64, ...]:
        return self.level, self.slope, self.slowest, self.fastest, self.wobble, self.fit, self.span


@dataclass(frozen=True)
class Reached:
    """When lines reach a value, unix seconds [lines]: NaN for not, infinite for perhaps never."""

    at: F64
    earliest: F64
    latest: F64


def trends(times: F64, values: F64, now: float, toward: F64 | None = None) -> Trends:
    """The trend of each line.

    Args:
        times: unix seconds, ascending [points].
        values: [lines, points], NaN where there is none.
        toward: 1 or -1 [lines]: only of lines that surely rise or fall; of the others NaN.
    """
    found = Trends.none(len(values))
    pairs = len(times) * (len(times) - 1) // 2
    at_once = max(1, AT_ONCE // max(1, pairs))
    enough = np.flatnonzero((~np.isnan(values)).sum(axis=1) >= LEAST_POINTS)
    for start in range(0, len(enough), at_once):
        rows = enough[start : start + at_once]
        if toward is not None:
            rows = rows[_goes(values[rows] * toward[rows, None])]
        if len(rows):
            found.put(rows, _trends(times, values[rows], now))
    return found


def _goes(rising: F64) -> Mask:
    """Which lines surely rise, which is told by counting: enough of all pairs do."""
    i, j = np.triu_indices(rising.shape[1], 1)
    points = (~np.isnan(rising)).sum(axis=1)
    pairs = points * (points - 1) // 2
    rise = (rising[:, j] > rising[:, i]).sum(axis=1)
    return np.asarray(pairs - rise <= _surely(points, pairs), bool)


def _surely(points: I64, pairs: I64) -> I64:
    """Of all slopes in order, the place of the one that the true slope is surely above."""
    unsure = SURE * np.sqrt(points * (points - 1) * (2 * points + 5) / 18)
    return np.clip(((pairs - unsure) / 2).astype(np.int64), 0, pairs - 1)


def _trends(times: F64, values: F64, now: float) -> Trends:
    i, j = np.triu_indices(len(times), 1)
    slopes = np.sort((values[:, j] - values[:, i]) / (times[j] - times[i]), axis=1)
    known = ~np.isnan(values)
    points = known.sum(axis=1)
    pairs = points * (points - 1) // 2
    slope = _middle(slopes, pairs)
    least = _surely(points, pairs)
    slowest, fastest = _ranked(slopes, least), _ranked(slopes, pairs - 1 - least)
    rest = values - slope[:, None] * (times - now)
    level = median(rest)
    wobble = median(np.abs(rest - level[:, None]))
    varied = median(np.abs(values - median(values)[:, None]))
    with np.errstate(all="ignore"):
        fit = np.clip(np.where(varied > 0, 1 - (wobble / varied) ** 2, 1.0), 0, 1)
    first = times[np.argmax(known, axis=1)]
    last = times[len(times) - 1 - np.argmax(known[:, ::-1], axis=1)]
    return Trends(level, slope, slowest, fastest, wobble, fit, last - first)


def _middle(ordered: F64, count: I64) -> F64:
    some = np.maximum(count, 1)
    found = (_ranked(ordered, (some - 1) // 2) + _ranked(ordered, some // 2)) / 2
    return np.where(count > 0, found, np.nan)


def _ranked(ordered: F64, rank: I64) -> F64:
    found: F64 = np.take_along_axis(ordered, rank[:, None], axis=1)[:, 0]
    return found


@dataclass(frozen=True)
class Seen:
    """What lines were at some moments: `times` ascending unix seconds [points], `values` [lines, points]."""

    times: F64
    values: F64

    def part(self, lines: Mask | I64) -> Seen:
        return Seen(self.times, self.values[lines])


def trusted(far: Seen, near: Seen, now: float, at: F64) -> Trends:
    """The trend by which each line has to be judged; NaN where none can be trusted.

    Of a saw-tooth it is that of its tops. After a drop or a jump only what came after it
    counts. A climb that began lately counts by itself when it is steady and leaves all behind that was before. What is
    not surely a trend, or is not where the line is now, is none.

    Args:
        far: what was over a long while, in wide steps.
        near: what was lately, in narrow ones.
        at: where the question is when they get there [lines].
    """
    up = np.where(at >= median(np.hstack([far.values, near.values])), 1.0, -1.0)
    rising = filled(np.hstack([far.values, near.values]) * up[:, None])
    varied = _highest(rising) + _highest(-rising)
    broken, drops = _breaks(far.values, up, varied)
    toothed = drops >= 2
    wide = trends(far.times, np.where(broken | toothed[:, None], np.nan, far.values), now, up)
    wide = _of_tops(far, now, up, varied, toothed).where(toothed, wide)
    newest = rising[:, -1] * up if rising.shape[1] else np.full(len(at), np.nan)
    found = wide.where(_sure(wide, up) & (toothed | _fits(wide, newest, varied)), Trends.none(len(at)))
    before = far.times < near.times[0] if len(near.times) else np.ones(len(far.times), bool)
    highest = _highest(np.where(before & ~broken, filled(far.values * up[:, None]), np.nan))
    for points in (len(near.times), LATELY):
        close = _lately(Seen(near.times[-points:], near.values[:, -points:]), now, up)
        with np.errstate(invalid="ignore"):
            leads = np.isnan(highest) | (close.level * up >= highest - LEAD * varied)
            quicker = np.isnan(found.slope) | (close.slope * up > QUICKER * found.slope * up)
            # What is seen for a short while says nothing of long ahead: there the trend of long counts.
            quicker &= np.isnan(found.slope) | np.isfinite(left(close.level, close.slope, close.span, at))
        mine = _sure(close, up) & (close.fit >= STEADY) & ~toothed & leads & quicker & _fits(close, newest, varied)
        found = close.where(mine, found)
    return found


def _lately(near: Seen, now: float, up: F64) -> Trends:
    """The trend since the last drop or jump."""
    if not len(near.times):
        return Trends.none(len(near.values))
    ordered = filled(near.values)
    broken, _ = _breaks(near.values, up, _highest(ordered) + _highest(-ordered))
    return trends(near.times, np.where(broken, np.nan, near.values), now, up)


def _breaks(values: F64, up: F64, varied: F64) -> tuple[Mask, I64]:
    """What of each line is before its last drop or jump, and how many drops it has."""
    if values.shape[1] < 2:
        return np.zeros(values.shape, bool), np.zeros(len(values), np.int64)
    rising = filled(values * up[:, None])
    down, jump = _falls(rising, varied), _falls(-rising, varied, twice=A_JUMP)
    large = down | jump
    last = np.where(large.any(axis=1), large.shape[1] - np.argmax(large[:, ::-1], axis=1), 0)
    return np.arange(values.shape[1]) < last[:, None], _begins(down).sum(axis=1)


def _falls(lines: F64, varied: F64, twice: float = A_DROP) -> Mask:
    """Between which points lines fall by much, within one step or two; [lines, points - 1]."""
    with np.errstate(invalid="ignore"):
        found = np.diff(lines, axis=1) < -A_DROP * varied[:, None]
        found[:, 1:] |= lines[:, 2:] - lines[:, :-2] < -twice * varied[:, None]
    return found


def _begins(falls: Mask) -> Mask:
    """Of falls that follow one another the first."""
    found = falls.copy()
    found[:, 1:] &= ~falls[:, :-1]
    return found


def _sure(found: Trends, up: F64) -> Mask:
    """Which trends surely go towards what is asked."""
    return np.minimum(found.slowest * up, found.fastest * up) > 0


def _fits(found: Trends, newest: F64, varied: F64) -> Mask:
    """Which trends are where their lines are now."""
    with np.errstate(invalid="ignore"):
        return np.abs(newest - found.level) <= np.maximum(4 * found.wobble, LEAD * 5 * varied)


def _of_tops(far: Seen, now: float, up: F64, varied: F64, toothed: Mask) -> Trends:
    """Trends of saw-teeth: that of their tops. Where a tooth stands now says nothing; but no tooth is below it."""
    found = Trends.none(len(up))
    rows = np.flatnonzero(toothed)
    if not len(rows):
        return found
    lines = filled(far.values[rows] * up[rows, None])
    tops = _tops(lines, varied[rows])
    slope = _rises(far.times, tops, A_DROP * varied[rows])
    span = np.full(len(rows), float(far.times[-1] - far.times[0]))
    level = np.fmax(median(tops + slope[:, None] * (now - far.times)), lines[:, -1])
    level, slope = up[rows] * level, up[rows] * slope
    found.put(rows, Trends(level, slope, slope, slope, np.zeros(len(rows)), np.ones(len(rows)), span))
    return found


def _tops(lines: F64, varied: F64) -> F64:
    """How high lines were before they fell, at the places where that was; NaN elsewhere [lines, points]."""
    tops = np.full(lines.shape, np.nan)
    rows, falls = np.nonzero(_begins(_falls(lines, varied)))
    before = np.maximum(falls - 1, 0)
    at = before + (lines[rows, before + 1] > lines[rows, before])
    tops[rows, at] = lines[rows, at]
    return tops


def _rises(times: F64, tops: F64, least: F64) -> F64:
    """By how much tops rise a second: 0 when that may be chance. Few of them have to rise each, and clearly."""
    known = ~np.isnan(tops)
    found = trends(times, tops, float(times[-1]), np.ones(len(tops)))
    held = filled(tops)
    last = held[:, -1]
    first = np.take_along_axis(tops, np.argmax(known, axis=1)[:, None], axis=1)[:, 0]
    begun = times[np.argmax(known, axis=1)]
    ended = times[len(times) - 1 - np.argmax(known[:, ::-1], axis=1)]
    with np.errstate(all="ignore"):
        falls = known[:, 1:] & (held[:, 1:] <= held[:, :-1])
        few = np.where(~falls.any(axis=1) & (last - first > 0.5 * least), (last - first) / (ended - begun), 0.0)
        many = np.where(found.slowest > 0, found.slope, 0.0)
    return np.where(known.sum(axis=1) >= LEAST_POINTS, many, few)


def filled(values: F64) -> F64:
    """Gaps filled with what was before them."""
    places = np.where(np.isnan(values), 0, np.arange(values.shape[1]))
    np.maximum.accumulate(places, axis=1, out=places)
    found: F64 = np.take_along_axis(values, places, axis=1)
    return found


def _highest(values: F64) -> F64:
    return np.fmax.reduce(values, axis=1) if values.shape[1] else np.full(len(values), np.nan)


def left(level: F64, slope: F64, span: F64, at: F64) -> F64:
    """How many seconds until `at` is reached [lines]: infinite for never, or later than a trend can be trusted."""
    with np.errstate(all="ignore"):
        found = (at - level) / slope
        found = np.where((found < 0) | np.isnan(found), np.inf, found)
        found = np.where(found > AHEAD * span, np.inf, found)
    return np.where(np.isnan(level), np.nan, found)


def reached(found: Trends, at: F64, now: float) -> Reached:
    """When each line gets to `at`, with an earliest and a latest moment."""
    likely = left(found.level, found.slope, found.span, at)
    up = np.where(found.slope >= 0, 1.0, -1.0)
    with np.errstate(all="ignore"):
        rise = up * (at - found.level)
        quick = np.maximum(up * found.fastest, up * found.slowest)
        slow = np.minimum(up * found.fastest, up * found.slowest)
        early = np.maximum(rise - 2 * found.wobble, 0.0) / quick
        late = np.where(slow > 0, (rise + 2 * found.wobble) / slow, np.inf)
    gone = ~np.isfinite(likely)
    early, late = np.minimum(early, likely), np.maximum(late, likely)
    return Reached(*(np.where(gone, np.nan, now + seconds) for seconds in (likely, early, late)))
