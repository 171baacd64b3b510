"""Looking at many series over a long time in blocks that fit in memory, after what that costs was counted."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from balise.core.moments import NS, seconds_of
from balise.core.series.growth import MAX_GAP, increases, told_growth
from balise.core.series.portions import in_weight
from balise.core.series.steps import TIER_SECONDS, Steps, TierName
from balise.core.series.summary import Summary, coarser
from balise.store.series.catalogue import Catalogue
from balise.store.series.reader import Reader

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
CELLS = 1_000_000
"""Points, or steps of series, that are held at once: some 60 bytes each while they are worked on."""
_ALL = slice(None)


class Blocks:
    """Series summed up block by block. Each block is some rows of the series asked for, and some of the steps."""

    def __init__(self, catalogue: Catalogue, reader: Reader, cells: int = CELLS) -> None:
        self._catalogue = catalogue
        self._reader = reader
        self._cells = cells

    def costs(self, metric: int, series: I64, steps: Steps, tier: TierName, *, growing: bool) -> I64:
        """At most how many values of each of these series are looked at to answer for these steps."""
        if tier == "raw":
            start = steps.start - MAX_GAP if growing else steps.start
            return self._reader.count(series, start, steps.end)
        first = self._first(metric, series, steps, tier) if len(series) else 0
        each = (steps.count - first) * (steps.width // (TIER_SECONDS[tier] * NS))
        return np.full(len(series), each, np.int64)

    def summaries(
        self, metric: int, series: I64, steps: Steps, tier: TierName, fields: set[str], costs: I64
    ) -> Iterator[tuple[I64, slice, Summary]]:
        """Rows of `series`, steps, and what happened there; `costs` as `costs` gives them."""
        if tier == "raw":
            for rows, at, part in self._raw(steps, costs):
                yield rows, at, self._reader.summed(series[rows], part, fields)
            return
        factor = steps.width // (TIER_SECONDS[tier] * NS)
        first = self._first(metric, series, steps, tier)
        for rows, at, part in self._even(len(series), steps, first, factor):
            fine = Steps(part.start, TIER_SECONDS[tier] * NS, part.count * factor)
            yield rows, at, coarser(self._reader.rolled(tier, metric, series[rows], fine, fields), factor)

    def growths(
        self, metric: int, series: I64, steps: Steps, tier: TierName, costs: I64
    ) -> Iterator[tuple[I64, slice, F64, F64]]:
        """Rows of `series`, steps, by how much they grew there, and the seconds over which that was seen."""
        kinds = self._catalogue.series.kinds_of(series)
        if tier == "raw":
            for rows, at, part in self._raw(steps, costs):
                flat = self._reader.flat(series[rows], part.start - MAX_GAP, part.end)
                yield rows, at, *increases(flat, [kinds[r] for r in rows.tolist()], part)
            return
        delta = np.array([k == "delta" for k in kinds], bool)
        for rows, at, summary in self.summaries(metric, series, steps, tier, {"grown", "seen", "total"}, costs):
            yield rows, at, *told_growth(summary, delta[rows], seconds_of(steps.width))

    def _first(self, metric: int, series: I64, steps: Steps, tier: TierName) -> int:
        """The first step in which there may be anything."""
        oldest = self._reader.oldest(tier, metric, series, steps.start)
        if oldest is None:
            return steps.count
        return int(np.clip((oldest - steps.start) // steps.width, 0, steps.count))

    def _even(self, series: int, steps: Steps, first: int, factor: int) -> Iterator[tuple[I64, slice, Steps]]:
        """Blocks of a tier: as many steps at a time as fit for all series, else some of the series."""
        at_once = max(1, self._cells // factor)
        for low in range(0, series, at_once):
            rows = np.arange(low, min(low + at_once, series))
            for at, part in parts_of(steps, first, max(1, self._cells // (len(rows) * factor))):
                yield rows, at, part

    def _raw(self, steps: Steps, counts: I64) -> Iterator[tuple[I64, slice, Steps]]:
        """Blocks of points: all steps of as many series as fit; of one that does not fit, some of the steps."""
        large = counts > self._cells
        for rows in in_weight(np.flatnonzero(~large), counts, self._cells):
            yield rows, _ALL, steps
        for row in np.flatnonzero(large).tolist():
            for at, part in parts_of(steps, 0, max(1, int(steps.count * self._cells // counts[row]))):
                yield np.array([row]), at, part


def parts_of(steps: Steps, first: int, at_once: int) -> Iterator[tuple[slice, Steps]]:
    """Steps from the `first` on, some at a time."""
    for low in range(first, steps.count, at_once):
        count = min(at_once, steps.count - low)
        yield slice(low, low + count), Steps(steps.start + low * steps.width, steps.width, count)
