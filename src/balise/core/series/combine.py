"""Putting several series together into one line for each group. Arrays are [series, steps]."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from balise.api.metrics import Take
from balise.core.series.summary import Summary

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]


def _by_group(values: F64, groups: I64, how: np.ufunc) -> F64:
    """Rows of one group put together: [series, steps] to [groups, steps]. `groups` is [series], from 0 up."""
    if groups[0] == 0 and groups[-1] == len(groups) - 1 and bool((groups[1:] > groups[:-1]).all()):
        return values
    turns = np.diff(groups, prepend=-1)
    if bool((turns < 0).any()):
        order = np.argsort(groups, kind="stable")
        values, turns = values[order], np.diff(groups[order], prepend=-1)
    out: F64 = how.reduceat(values, np.flatnonzero(turns), axis=0)
    return out


def combine(summary: Summary, delta: NDArray[np.bool_], groups: I64, take: Take) -> F64:
    """One line for each group, [groups, steps]. `delta` [series] says which series are deltas.

    `avg` is the mean of all points; `sum` adds the series up, each with its mean in the step (a delta series
    with its total); `last` is the newest value, the highest of them where a group holds several series.
    """
    if not len(groups):
        return np.empty((0, summary.count.shape[1]))
    count = _by_group(summary.count, groups, np.add)
    with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
        if take == "count":
            return np.where(count > 0, count, np.nan)
        if take == "min":
            return _by_group(summary.low, groups, np.fmin)
        if take == "max":
            return _by_group(summary.high, groups, np.fmax)
        if take == "last":
            return _by_group(summary.last, groups, np.fmax)
        if take == "sum":
            level = np.where(delta[:, None], summary.total, summary.total / summary.count)
            added = _by_group(np.where(summary.count > 0, level, 0.0), groups, np.add)
            return np.where(count > 0, added, np.nan)
        return _by_group(summary.total, groups, np.add) / count


def combine_rates(grown: F64, seen: F64, groups: I64) -> F64:
    """Growth a second of each group: its series' rates added up, [groups, steps]."""
    if not len(groups):
        return np.empty((0, grown.shape[1]))
    with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
        rate = np.where(seen > 0, grown / seen, 0.0)
    known = _by_group((seen > 0).astype(np.float64), groups, np.add) > 0
    return np.where(known, _by_group(rate, groups, np.add), np.nan)


def combine_growth(grown: F64, seen: F64, groups: I64) -> F64:
    """Growth of each group: its series' growths added up, [groups, steps]; NaN where none was seen."""
    if not len(groups):
        return np.empty((0, grown.shape[1]))
    known = _by_group((seen > 0).astype(np.float64), groups, np.add) > 0
    return np.where(known, _by_group(grown, groups, np.add), np.nan)
