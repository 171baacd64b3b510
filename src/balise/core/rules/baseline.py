"""What is usual at an hour of the week, learned from the same hour of the weeks before."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta, tzinfo

import numpy as np
from numpy.typing import NDArray

from balise.core.rules.look import Usual

F64 = NDArray[np.float64]
WEEKS = 8
NEIGHBOURS = 2
"""Hours before and after whose deviations count as well: few weeks have few."""
FADING = 0.8
"""How much less each week weighs than the one after it."""
LEAST_WEEKS = 2
NOT_ENOUGH = "not enough history yet: what is usual is known after two weeks"
TO_SIGMA = 1.4826
"""Of a normal distribution, a deviation in units of the median distance from the middle (Hampel 1974)."""
HOUR = 3600


def hours_before(hour: int, zone: tzinfo) -> list[list[int]]:
    """The hours from which the usual of one is learned: [weeks, neighbours], the last week first.

    They are the same hours by the clock on the wall, whatever summer time does. `hour` and the answers are unix seconds
    at which hours begin.
    """
    here = datetime.fromtimestamp(hour, zone).replace(tzinfo=None)
    found = []
    for week in range(1, WEEKS + 1):
        then = here - timedelta(weeks=week)
        row = []
        for shift in range(-NEIGHBOURS, NEIGHBOURS + 1):
            wall = (then + timedelta(hours=shift)).replace(tzinfo=zone)
            row.append(int(wall.astimezone(UTC).timestamp()) // HOUR * HOUR)
        found.append(row)
    return found


def usual_of(values: F64, within: F64) -> Usual:
    """What is usual in each hour of the neighbourhood, arrays [groups, neighbours]; NaN where too little is known.

    Args:
        values: what was in each hour [groups, weeks, neighbours], the last week first, NaN for nothing.
        within: by how much it varied inside the hour, lowest to highest, of the same shape.
    """
    weights = FADING ** np.arange(values.shape[1])[:, None] * np.ones(values.shape[1:])
    middle = weighted_median(values, weights)
    count = (~np.isnan(values)).sum(axis=1)
    with np.errstate(all="ignore"):
        away = np.abs(values - middle[:, None]) * np.sqrt(count / np.maximum(count - 1, 1))[:, None]
        groups = len(values)
        flat = np.broadcast_to(weights, values.shape[1:]).reshape(1, -1, 1)
        pooled = weighted_median(away.reshape(groups, -1, 1), flat[0])
        inside = weighted_median(within.reshape(groups, -1, 1), flat[0]) / 6
        spread = np.sqrt((TO_SIGMA * pooled) ** 2 + np.nan_to_num(inside) ** 2)
    enough = count >= LEAST_WEEKS
    return Usual(np.where(enough, middle, np.nan), np.where(enough, np.broadcast_to(spread, middle.shape), np.nan))


def weighted_median(values: F64, weights: F64) -> F64:
    """The weighted median along the second axis, [groups, rest] of [groups, n, rest]; what lies between two is
    interpolated. `weights` is [n, rest]; NaN weighs nothing."""
    groups, n, rest = values.shape
    lines = np.ascontiguousarray(values.transpose(0, 2, 1)).reshape(-1, n)
    order = np.argsort(lines, axis=1)
    row = np.arange(len(lines))[:, None]
    ordered = lines.ravel()[order + row * n]
    known = ~np.isnan(ordered)
    weight = np.ascontiguousarray(weights.T).ravel()[order + row % rest * n] * known
    until = np.cumsum(weight, axis=1)
    half = until[:, -1:] / 2
    place = until - weight / 2
    # The last place at or before the middle, and the first after it.
    low = np.maximum((known & (place <= half)).sum(axis=1, keepdims=True) - 1, 0)
    high = np.minimum(low + 1, np.maximum(known.sum(axis=1, keepdims=True) - 1, 0))
    a, b = (ordered.ravel()[at + row * n] for at in (low, high))
    p, q = (place.ravel()[at + row * n] for at in (low, high))
    with np.errstate(all="ignore"):
        share = np.where(q > p, np.clip((half - p) / (q - p), 0, 1), 0.0)
        found: F64 = np.where(share > 0, a + (b - a) * share, a)
    return found.reshape(groups, rest)


def at_moment(usual: Usual, share: float) -> Usual:
    """What is usual at a moment of the middle hour of the neighbourhood, `share` of the hour after its beginning.

    Hours are joined from middle to middle, so that a steep morning is no surprise at the turn of an hour.
    """
    mine = usual.middle.shape[1] // 2
    other = mine + (1 if share >= 0.5 else -1)
    part = abs(share - 0.5)
    return Usual(*(_joined(numbers[:, mine], numbers[:, other], part) for numbers in usual))


def _joined(one: F64, other: F64, part: float) -> F64:
    return np.where(np.isnan(other), one, one + (other - one) * part)
