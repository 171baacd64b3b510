"""Percentiles: of points, and out of the buckets of histograms."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from balise.core.series.steps import Steps

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
QUANTILES: dict[str, float] = {"p50": 0.5, "p90": 0.9, "p95": 0.95, "p99": 0.99}


def point_percentiles(
    pieces: Sequence[tuple[I64, F64]], groups: I64, group_count: int, steps: Steps, quantile: float
) -> F64:
    """Percentiles of all points of a group in each step, linear between neighbours, [groups, steps].

    Args:
        pieces: for each series its times [n] and values [n].
    """
    out = np.full((group_count, steps.count), np.nan)
    for group in range(group_count):
        mine = [pieces[i] for i in np.flatnonzero(groups == group).tolist()]
        times = np.concatenate([t for t, _ in mine]) if mine else np.empty(0, np.int64)
        values = np.concatenate([v for _, v in mine]) if mine else np.empty(0)
        inside = (times >= steps.start) & (times < steps.end) & ~np.isnan(values)
        if not inside.any():
            continue
        present, found = percentiles_by(steps.index(times[inside]), values[inside], quantile)
        out[group, present] = found
    return out


def percentiles_by(index: I64, values: F64, quantile: float) -> tuple[I64, F64]:
    """Percentiles of values that have the same index, linear between neighbours: each index there is, and its own.

    >>> [part.tolist() for part in percentiles_by(np.array([7, 7, 2, 7]), np.array([1.0, 3.0, 5.0, 2.0]), 0.75)]
    [[2, 7], [5.0, 2.5]]
    """
    if not len(index):
        return np.empty(0, np.int64), np.empty(0)
    order = np.lexsort((values, index))
    index, values = index[order], values[order]
    edges = np.flatnonzero(np.diff(index, prepend=index[0] - 1))
    sizes = np.diff(edges, append=len(index))
    place = (sizes - 1) * quantile
    below = np.floor(place).astype(np.int64)
    above = np.minimum(below + 1, sizes - 1)
    low, high = values[edges + below], values[edges + above]
    return index[edges], low + (high - low) * (place - below)


def bucket_of(part: str) -> tuple[float, float] | None:
    """The bounds of a histogram's bucket, `(lower, upper]`, from the name of its series; None for other parts.

    `le:` names the upper bound alone: the lower one is that of the bucket before, NaN here. `in:` names both.
    """
    if part.startswith("le:"):
        return float("nan"), float(part[3:])
    if part.startswith("in:"):
        lower, _, upper = part[3:].partition(":")
        return float(lower), float(upper)
    return None


def with_lower_bounds(bounds: Sequence[tuple[float, float]], families: Sequence[object]) -> F64:
    """Lower and upper bounds of buckets, [buckets, 2]: where the lower one is NaN it is the upper one before it of
    the same family; the first begins at 0, or at its upper bound if that is less."""
    out = np.array(bounds, np.float64).reshape(-1, 2)
    last: dict[object, float] = {}
    for place in np.argsort(out[:, 1], kind="stable").tolist():
        if np.isnan(out[place, 0]):
            family, upper = families[place], float(out[place, 1])
            out[place, 0] = last.get(family, min(0.0, upper))
            last[family] = upper
    return out


def bucket_percentiles(bounds: F64, counts: F64, quantile: float) -> F64:
    """Percentiles out of histogram buckets, [steps]: what is in a bucket is taken as spread evenly over it.

    Buckets may overlap, as those of several hosts do. One without an end holds all of it at its beginning.

    Args:
        bounds: lower and upper bounds [buckets, 2].
        counts: how many fell into each bucket in each step [buckets, steps].
    """
    total = counts.sum(axis=0)
    out = np.full(counts.shape[1], np.nan)
    if not len(bounds) or not (total > 0).any():
        return out
    lower, upper = bounds[:, :1], bounds[:, 1:]
    edges = np.unique(bounds[np.isfinite(bounds)])
    with np.errstate(invalid="ignore", divide="ignore"):
        spread = np.clip((edges - lower) / (upper - lower), 0.0, 1.0)
    point = np.isinf(upper) | (upper <= lower)
    at = np.where(point, (edges >= lower).astype(np.float64), spread).T @ counts
    before = np.where(point, (edges > lower).astype(np.float64), spread).T @ counts
    for step in np.flatnonzero(total > 0):
        rank = quantile * total[step] * (1 - 1e-12)
        place = min(int(np.searchsorted(at[:, step], rank, side="left")), len(edges) - 1)
        reached = before[place, step]
        if place == 0 or rank > reached:
            out[step] = edges[place]
            continue
        start = at[place - 1, step]
        share = (rank - start) / (reached - start) if reached > start else 1.0
        out[step] = edges[place - 1] + (edges[place] - edges[place - 1]) * share
    return out
