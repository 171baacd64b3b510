"""Putting several series together into one line for each group. Arrays are [series, steps]."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from balise.api.metrics import Take
from balise.core.series.portions import distinct
from balise.core.series.summary import Summary

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]


def _by_group(values: F64, groups: I64, how: np.ufunc) -> F64:
    """Rows of one group put together: [series, steps] to [groups, steps]. `groups` is [series], from 0 up."""
    if _each_its_own(groups):
        return values
    turns = np.diff(groups, prepend=-1)
    if bool((turns < 0).any()):
        order = np.argsort(groups, kind="stable")
        values, turns = values[order], np.diff(groups[order], prepend=-1)
    starts = np.flatnonzero(turns)
    each = len(values) // len(starts)
    if how is not np.add and len(starts) * each == len(values) and bool((np.diff(starts) == each).all()):
        # Groups of one size, as of hosts that are alike, take less than half as long; sums would be rounded otherwise.
        return np.asarray(how.reduce(values.reshape(len(starts), each, -1), axis=1), np.float64)
    out: F64 = how.reduceat(values, starts, axis=0)
    return out


class Combining:
    """Lines of groups put together bit by bit: some series, some steps at a time; [groups, steps] in the end.

    `avg` is the mean of all points; `sum` adds the series up, each with its mean in the step (a delta series
    with its total); `last` is the newest value, the highest of them where a group holds several series; `rate` adds
    up its series' rates, `change` what they grew by.
    """

    def __init__(self, take: Take, groups: int, steps: int) -> None:
        self._take = take
        self._value = np.full((groups, steps), np.nan) if take in ("min", "max", "last") else np.zeros((groups, steps))
        self._count = np.zeros((groups, steps)) if take not in ("min", "max", "last") else None

    def add(self, summary: Summary, delta: NDArray[np.bool_], groups: I64, at: slice) -> None:
        """Takes what some series had in the steps `at`.

        Args:
            delta: which of the series are deltas [series].
            groups: the group of each series [series].
        """
        take = self._take
        if take == "min":
            self._extreme(summary.low, groups, at, np.fmin)
        elif take in ("max", "last"):
            self._extreme(summary.high if take == "max" else summary.last, groups, at, np.fmax)
        elif take == "sum":
            with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
                level = np.where(delta[:, None], summary.total, summary.total / summary.count)
            self._added(np.where(summary.count > 0, level, 0.0), summary.count, groups, at)
        else:
            self._added(summary.total if take == "avg" else summary.count, summary.count, groups, at)

    def add_sums(self, total: F64, count: F64, groups: I64) -> None:
        """Takes the totals and counts that some series had in all the steps."""
        self._added(total, count, groups, slice(None))

    def add_growth(self, grown: F64, seen: F64, groups: I64, at: slice) -> None:
        """Takes by how much some series grew in the steps `at`, and the seconds over which that was seen."""
        if self._take == "rate":
            with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
                grown = np.where(seen > 0, grown / seen, 0.0)
        self._added(grown, (seen > 0).astype(np.float64), groups, at)

    def _added(self, values: F64, counts: F64, groups: I64, at: slice) -> None:
        if self._count is None or not len(groups):
            return
        present, local = _numbered(groups)
        with np.errstate(invalid="ignore", over="ignore"):
            self._value[present, at] += _by_group(values, local, np.add)
        self._count[present, at] += _by_group(counts, local, np.add)

    def _extreme(self, values: F64, groups: I64, at: slice, how: np.ufunc) -> None:
        if len(groups):
            present, local = _numbered(groups)
            self._value[present, at] = how(self._value[present, at], _by_group(values, local, how))

    def answer(self) -> F64:
        """The lines of all groups; NaN where there was nothing."""
        if self._count is None:
            return self._value
        if self._take == "avg":
            with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
                return self._value / self._count
        return np.where(self._count > 0, self._value, np.nan)


def _each_its_own(groups: I64) -> bool:
    """Whether every series is a group by itself, in order."""
    return bool(groups[0] == 0 and groups[-1] == len(groups) - 1 and (groups[1:] > groups[:-1]).all())


def _numbered(groups: I64) -> tuple[I64 | slice, I64]:
    """The groups there are, in order, and of each series which of those is its own."""
    if _each_its_own(groups):
        return slice(0, len(groups)), groups
    present, local = distinct(groups)
    return (slice(0, len(present)) if local is groups else present), local


def combine(summary: Summary, delta: NDArray[np.bool_], groups: I64, take: Take) -> F64:
    """One line for each group, [groups, steps], of series that are all there; `groups` from 0 up without a gap."""
    if len(groups) and _each_its_own(groups):
        if take in ("min", "max", "last"):
            return {"min": summary.low, "max": summary.high, "last": summary.last}[take]
        if take == "avg":
            with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
                return summary.total / summary.count
    made = Combining(take, int(groups.max(initial=-1)) + 1, summary.count.shape[1])
    made.add(summary, delta, groups, slice(None))
    return made.answer()


def combine_rates(grown: F64, seen: F64, groups: I64) -> F64:
    """Growth a second of each group: its series' rates added up, [groups, steps]."""
    if len(groups) and _each_its_own(groups):
        with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
            return np.where(seen > 0, grown / seen, np.nan)
    made = Combining("rate", int(groups.max(initial=-1)) + 1, grown.shape[1])
    made.add_growth(grown, seen, groups, slice(None))
    return made.answer()


def combine_growth(grown: F64, seen: F64, groups: I64) -> F64:
    """Growth of each group: its series' growths added up, [groups, steps]; NaN where none was seen."""
    made = Combining("change", int(groups.max(initial=-1)) + 1, grown.shape[1])
    made.add_growth(grown, seen, groups, slice(None))
    return made.answer()
