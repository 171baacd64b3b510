"""Points that came since the last beat, so that each rule finds those of its metrics."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]


@dataclass(frozen=True)
class Came:
    """Numbers of metrics and series, unix seconds and values, each [n], in order of metric, series and time."""

    metrics: I64
    series: I64
    times: F64
    values: F64

    @classmethod
    def in_any_order(cls, metrics: I64, series: I64, times: F64, values: F64) -> Came:
        """Those that stand in any order; of one series and moment they stay in theirs."""
        whose = metrics << 32 | series
        order = np.argsort(whose, kind="stable")
        own, at = whose[order], times[order]
        if bool(((own[1:] == own[:-1]) & (at[1:] < at[:-1])).any()):
            # Most senders send what is earlier first, and there is nothing to be sorted by time.
            order = np.lexsort((times, whose))
        return cls(metrics[order], series[order], times[order], values[order])

    def of(self, metrics: Sequence[int]) -> tuple[I64, F64, F64]:
        """Series, times and values of some metrics, ascending."""
        if len(metrics) == 1:
            lo, hi = np.searchsorted(self.metrics, [metrics[0], metrics[0] + 1])
            return self.series[lo:hi], self.times[lo:hi], self.values[lo:hi]
        mine = np.isin(self.metrics, metrics)
        series, times, values = self.series[mine], self.times[mine], self.values[mine]
        order = np.argsort(series, kind="stable")
        return series[order], times[order], values[order]
