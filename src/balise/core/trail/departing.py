"""How far, and when, series left what is usual for them.

How far is measured in robust deviations against the time before and against what is usual at this hour. When is the
moment at which "as before, then away from it" fits best: the search starts at the last time that a one-sided cumulative
sum was empty before it grew past its bound (Page 1954), and among the moments around it the one with the least squares
is taken, for a step and for a slope. The moments that fit almost as well are its uncertainty: a likelihood interval of
95 %, as the squares are in units of the noise.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from balise.core.moved import SHARE, least_of
from balise.core.quantiles import median, quantiles
from balise.core.rules.baseline import TO_SIGMA

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
Bool = NDArray[np.bool_]
BOUND, SLACK = 6.0, 1.0
"""Of the cumulative sum, in deviations: where it says that something has changed, and what it forgives each step."""
OF_FARTHEST, MOST_SLACK = 0.12, 4.0
"""Of how far it went, what is forgiven each step: where much happens, the drift before it is another matter."""
CEILING = 2 * BOUND
"""Beyond which the sum does not grow, so that what was short is soon forgotten."""
CLIPPED = 8.0
"""No single step counts for more: one outlier is no change."""
LEAST = 4.0
"""Deviations from which something has departed."""
KEPT = 3
"""Steps in a row that a departure lasts at the least."""
AFTER = 3
"""Steps after the bound was passed which still help to say when it began."""
SHARP = 0.7
"""Of how far it went, how much of it is there at the first step of what began at once."""
FITS_AS_WELL = 3.84
"""By how much the squares may be larger (chi-square, one degree of freedom, 95 %)."""
FEWEST = 6
"""Of how many steps before, at least, one has to know something."""
_MOST = 60.0
"""Deviations beyond which farther means nothing more."""


@dataclass(frozen=True)
class Departed:
    """Of each series [s]: how far it went (signed; NaN where it did not depart, or too little is known), when (unix
    seconds, NaN likewise) and by how many seconds that may be off, its level before and when it was farthest, and how
    much it varied before: one deviation."""

    deviation: F64
    at: F64
    uncertainty: F64
    before: F64
    during: F64
    varied: F64


def departed(times: F64, values: F64, start: int, *, units: list[str], usual: F64, spread: F64, clock: F64) -> Departed:
    """Measures every series.

    Args:
        times: where steps begin [n], unix seconds, all of the same width.
        values: [s, n], NaN where there is nothing.
        start: the first step of the stretch that is asked about; what is before it is what was before.
        units: of each series, as UCUM writes it.
        usual: what is usual at each step of it by the hour of the week [s, n], NaN where that is not known.
        spread: by how much that varies [s], NaN likewise.
        clock: by how many seconds each series' clock may be off [s].
    """
    if not len(values):
        nothing = np.zeros(0)
        return Departed(nothing, nothing, nothing, nothing, nothing, nothing)
    with np.errstate(all="ignore"):
        middle, scale = _before(values[:, :start], values, units, _width(times))
        away = (values - middle[:, None]) / scale[:, None]
        # What does the same each week at this hour has not departed: of both the smaller counts.
        other = (values - usual) / np.fmax(spread, scale)[:, None]
        alike = np.sign(away) == np.sign(other)
        away = np.where(np.isnan(other), away, np.where(alike, np.sign(away) * np.fmin(np.abs(away), np.abs(other)), 0))
    away[np.isnan(values)] = np.nan
    far, peak = _farthest(away)
    enough = (~np.isnan(values[:, :start])).sum(axis=1) >= FEWEST
    chosen = np.flatnonzero((np.abs(far) >= LEAST) & enough)
    up = away[chosen] * np.sign(far[chosen])[:, None]
    at, off = _when(times, values[chosen], up, peak[chosen], clock[chosen])
    out = [np.full(len(values), np.nan) for _ in range(4)]
    peaks = values[chosen, peak[chosen]]
    for held, found in zip(out, (np.clip(far[chosen], -_MOST, _MOST), at, off, peaks), strict=True):
        held[chosen] = np.where(np.isnan(at), np.nan, found)
    return Departed(out[0], out[1], out[2], middle, out[3], scale)


def may_depart(times: F64, values: F64, start: int, *, units: list[str]) -> Bool:
    """Which series [s] went far enough from what was before. What is usual at this hour can only make that less: of
    the others it need not be known."""
    if not len(values):
        return np.zeros(0, bool)
    with np.errstate(all="ignore"):
        middle, scale = _before(values[:, :start], values, units, _width(times))
        far, _ = _farthest((values - middle[:, None]) / scale[:, None])
    return np.abs(far) >= LEAST


def _when(times: F64, values: F64, away: F64, peak: I64, clock: F64) -> tuple[F64, F64]:
    """When each series that goes up in `away` [s, n] to its `peak` began to, and how many seconds that may be off."""
    slack = np.clip(OF_FARTHEST * away[np.arange(len(away)), peak], SLACK, MOST_SLACK)
    y = np.clip(np.nan_to_num(away), -CLIPPED, CLIPPED + slack[:, None])
    low, at, high, found = _moments(y, ~np.isnan(away), peak, slack)
    low = _last_known(values, low)
    width = _width(times)
    # What does not begin with most of it at once is seen late.
    rows = np.arange(len(away))
    sharp = away[rows, at] >= SHARP * away[rows, peak]
    off = np.maximum(np.maximum(at - low, high - at), np.where(sharp, 1.0, 2.5)) * width + width / 2 + clock
    return np.where(found, times[at], np.nan), off


def _width(times: F64) -> float:
    return float(times[1] - times[0]) if len(times) > 1 else 1.0


def _before(before: F64, values: F64, units: list[str], width: float) -> tuple[F64, F64]:
    """The middle of what was before and how much it varied: never less than what is worth a look."""
    middle, low, high = quantiles(before, (0.5, 0.2, 0.8))
    around = TO_SIGMA * median(np.abs(before - middle[:, None]))
    # A fifth of the steps on either side left out: where most are alike, the median distance is none.
    wide = (high - low) / 1.683
    least = np.array([least_of(unit) for unit in units])
    size = np.fmax(np.abs(middle), np.nansum(np.abs(values), axis=1) / (~np.isnan(values)).sum(axis=1))
    scale = np.fmax(np.fmax(around, wide), np.fmax(least, SHARE * size))
    # So many events in a step come and go by chance alone (Poisson).
    events = np.array([u.startswith("{") and u.endswith("/s") for u in units])
    scale = np.where(events, np.fmax(scale, np.sqrt(np.abs(middle) * width + 1) / width), scale)
    return middle, np.where(scale > 0, scale, 1e-9)


def _farthest(away: F64) -> tuple[F64, I64]:
    """The farthest that each went and stayed for a few steps, signed, and at which step."""
    filled = np.nan_to_num(away)
    up, down = filled.copy(), -filled
    for shift in range(1, KEPT):
        for side, raw in ((up, filled), (down, -filled)):
            side[:, :-shift] = np.minimum(side[:, :-shift], raw[:, shift:])
            side[:, -shift:] = 0.0
    rows = np.arange(len(away))
    highest, lowest = up.argmax(axis=1), down.argmax(axis=1)
    rise, fall = up[rows, highest], down[rows, lowest]
    return np.where(rise >= fall, rise, -fall), np.where(rise >= fall, highest, lowest)


def _moments(y: F64, known: Bool, peak: I64, slack: F64) -> tuple[I64, I64, I64, Bool]:
    """Where each began to go up: the lowest, the best and the highest step; and whether at all."""
    count, n = y.shape
    held = np.zeros(count)
    empty, alarm, reset = np.zeros(count, np.int64), np.full(count, n, np.int64), np.zeros(count, np.int64)
    more = np.where(known, y - slack[:, None], 0.0)
    for i in range(n):
        # What was forgotten before the peak was another matter: each sum begins anew.
        ahead = i <= peak + AFTER
        held = np.clip(held + more[:, i], 0.0, CEILING)
        empty[held == 0] = i + 1
        alarm[(held == 0) & ahead & (i < peak)] = n
        now = (held > BOUND) & (alarm == n) & ahead
        alarm[now], reset[now] = i, empty[now]
    found = alarm < n
    return *_fitted(y, known, reset, np.minimum(alarm, n - 1), found), found


def _fitted(y: F64, known: Bool, reset: I64, alarm: I64, found: Bool) -> tuple[I64, I64, I64]:
    """The moments around `reset` by least squares: of those that fit almost as well the first, the best, the last."""
    count, n = y.shape
    end = np.minimum(alarm + AFTER + 1, n)
    first = np.maximum(reset - 12, 0)
    widest = int((alarm - first).max(initial=0)) + 1
    tau = first[:, None] + np.arange(widest)
    inside = (tau <= alarm[:, None]) & found[:, None]
    tau = np.minimum(tau, n - 1)
    place = np.arange(n, dtype=np.float64)
    mask = known.astype(np.float64)
    z = y * mask
    sums = [_until(part) for part in (mask, z, z * place, mask * place, mask * place**2)]
    k, s, sx, x, xx = (part[np.arange(count)[:, None], end[:, None]] - np.take_along_axis(part, tau, 1)
                           for part in sums)  # fmt: skip
    with np.errstate(all="ignore"):
        step = np.where(k > 0, s**2 / k, 0.0)
        # A slope that begins one step before tau: sum of y·(i − tau + 1) and of (i − tau + 1)².
        from_ = tau - 1
        slope_y = sx - from_ * s
        slope_x = xx - 2 * from_ * x + from_**2 * k
        slope = np.where((slope_x > 0) & (slope_y > 0), slope_y**2 / slope_x, 0.0)
    gained = np.where(inside, np.maximum(np.where(s > 0, step, 0.0), slope), -np.inf)
    best = gained.argmax(axis=1)
    rows = np.arange(count)
    top = gained[rows, best]
    well = inside & (gained >= top[:, None] - FITS_AS_WELL)
    low = well.argmax(axis=1)
    high = widest - 1 - well[:, ::-1].argmax(axis=1)
    return tau[rows, low], tau[rows, best], tau[rows, high]


def _until(values: F64) -> F64:
    """Sums of all columns before each, [s, n + 1]."""
    return np.concatenate([np.zeros((len(values), 1)), np.cumsum(values, axis=1)], axis=1)


def _last_known(values: F64, at: I64) -> I64:
    """The last step before `at` of which there is a value: while nothing is known, it may have begun."""
    known = ~np.isnan(values)
    last = np.maximum.accumulate(np.where(known, np.arange(values.shape[1]), 0), axis=1)
    rows = np.arange(len(values))
    before = np.maximum(at - 1, 0)
    gap = (at > 0) & ~known[rows, before]
    return np.where(gap, last[rows, before], at)
