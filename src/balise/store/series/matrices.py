"""What becomes rows of the matrix table: sums of steps, of one metric and day and so many series each."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from balise.core.moments import NS
from balise.core.series.codec import BlockEncoder
from balise.core.series.growth import extra_growth
from balise.core.series.portions import in_weight
from balise.core.series.steps import TIER_SECONDS, TierName
from balise.core.series.summary import FIELDS, Summary

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
DAY = 86_400 * NS
MATRIX_SERIES = 256
LONGEST_RUN = 30
"""Days that may stand in one row, of the steps of an hour."""
CELLS_AT_ONCE = 1 << 19
"""Steps of series that are put together at once, which bounds what that takes."""

ADDED, REPLACED = 0, 2
"""What a matrix does with the steps it has points in: they are added to those before it, or take their place."""


class _Sums(NamedTuple):
    """Sums of series, which are in order of their metrics, in some steps of the day, ascending."""

    metrics: I64
    series: I64
    steps: I64
    summary: Summary

    def of(self, low: int, high: int) -> _Sums:
        """Those of the metrics from `low` to `high`."""
        lo, hi = np.searchsorted(self.metrics, [low, high + 1]).tolist()
        return _Sums(self.metrics[lo:hi], self.series[lo:hi], self.steps, self.summary.rows(slice(lo, hi)))


class Rollups:
    """Gathers sums of series as they are made, and puts them together as matrices in the end.

    Args:
        metrics_of: answers the metric of each of some series.
    """

    def __init__(self, metrics_of: Callable[[I64], I64]) -> None:
        self._metrics_of = metrics_of
        self._found: dict[tuple[TierName, int, int], list[_Sums]] = {}

    def note(self, tier: TierName, day: int, how: int, series: I64, steps: I64, summary: Summary) -> None:
        """Sums of series in some steps of a day, [series, steps]. Of a series what is noted later is later in time."""
        metrics = self._metrics_of(series)
        order = np.argsort(metrics, kind="stable")
        self._found.setdefault((tier, day, how), []).append(
            _Sums(metrics[order], series[order], steps, summary.rows(order))
        )

    def matrices(self, encoder: BlockEncoder) -> Iterator[dict[str, object]]:
        """All of them as rows; what takes the place of steps comes after what was added to them."""
        for (tier, day, how), found in sorted(self._found.items(), key=lambda one: one[0][2]):
            first = min(int(sums.steps[0]) for sums in found)
            steps = max(int(sums.steps[-1]) for sums in found) + 1 - first
            known, counts = np.unique(np.concatenate([sums.metrics for sums in found]), return_counts=True)
            for places in in_weight(np.arange(len(known)), counts * steps, CELLS_AT_ONCE):
                low, high = int(known[places[0]]), int(known[places[-1]])
                metrics, series, summary = _together([sums.of(low, high) for sums in found], first, steps)
                yield from matrix_rows(encoder, tier, metrics, day, first, series, summary, how=how)


def _together(found: list[_Sums], first: int, steps: int) -> tuple[I64, I64, Summary]:
    """The series of all, by metric and number, with the metric of each, and what they sum up to."""
    series, places = np.unique(np.concatenate([sums.series for sums in found]), return_index=True)
    metrics = np.concatenate([sums.metrics for sums in found])[places]
    order = np.argsort(metrics, kind="stable")
    row_of = np.empty(len(series), np.intp)
    row_of[order] = np.arange(len(series))
    summary = Summary.empty(len(series), steps)
    for sums in found:
        summary.add(row_of[np.searchsorted(series, sums.series)], sums.steps - first, sums.summary)
    return metrics[order], series[order], summary


def matrix_rows(
    encoder: BlockEncoder,
    tier: TierName,
    metrics: I64,
    day: int,
    first: int,
    series: I64,
    summary: Summary,
    *,
    how: int = ADDED,
    whole: int = 0,
) -> list[dict[str, object]]:
    """Rows of the matrix table, `MATRIX_SERIES` series of one metric each.

    `metrics` tells the metric of each series, which are in order of it; `whole` is how many days were put together.
    """
    kept = _kept(summary)
    edges = np.flatnonzero(np.diff(metrics, prepend=-1)).tolist()
    parts = [
        slice(at, min(end, at + MATRIX_SERIES))
        for start, end in zip(edges, [*edges[1:], len(metrics)], strict=True)
        for at in range(start, end, MATRIX_SERIES)
    ]
    packed = encoder.encode_many([values[part] for part in parts for values in kept.values()])
    return [
        {
            "tier": TIER_SECONDS[tier],
            "metric": int(metrics[part.start]),
            "day": day,
            "step": first,
            "steps": summary.count.shape[1],
            "late": how,
            "whole": whole,
            "series": series[part].astype(np.int64).tobytes(),
            **dict(zip(kept, packed[place * len(kept) : (place + 1) * len(kept)], strict=True)),
        }
        for place, part in enumerate(parts)
    ]


def _kept(summary: Summary) -> dict[str, F64]:
    """What is kept of sums, by the column, [series, steps]."""
    empty = summary.count == 0
    fields = {name: np.where(empty, 0.0, getattr(summary, name)) for name in FIELDS}
    fields["total"] = without_noise(fields["total"])
    # Nobody reads clocks closer than to a thousandth of a second.
    fields["seen"] = np.round(fields["seen"], 3)
    # Most growth is what the last values say: only what is beyond that is kept.
    grown = fields.pop("grown")
    fields["extra"] = without_noise(extra_growth(fields["last"], fields["count"], fields["seen"], grown))
    return fields


def without_noise(sums: F64) -> F64:
    """Sums of decimal values without the last bits that adding floats leaves: they are no information.

    A sum is changed by less than 1 part in 10 ** 12, and then it keeps small.
    """
    with np.errstate(over="ignore", invalid="ignore"):
        plain = np.round(sums, 6)
        return np.where(np.abs(plain - sums) <= np.abs(sums) * 1e-12, plain, sums)
