"""Groups of very many series from what is kept of five minutes, as fast as memory allows."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from balise.api.metrics import Take
from balise.core.moments import NS
from balise.core.series.combine import Combining
from balise.core.series.steps import TIER_SECONDS, Steps
from balise.store.series.query import Selection
from balise.store.series.scan import Scan

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
WIDTH = TIER_SECONDS["5m"] * NS
MOST_CELLS = 4_000_000
"""Series times steps of five minutes that are held at once, 16 bytes each."""


class Sweep:
    """Answers several questions of one moment about the means of gauges; what they want is read together, once."""

    def __init__(self, scan: Scan) -> None:
        self._scan = scan
        self._wanted: dict[Steps, I64] = {}
        self._read: dict[Steps, tuple[F64, F64]] = {}

    def can(self, selection: Selection, steps: Steps, take: Take) -> bool:
        """Whether a mean of gauges is asked for, in steps that are put together from whole kept ones."""
        if take != "avg" or steps.width % WIDTH or steps.start % WIDTH:
            return False
        gauges = selection.kinds.gauge & ~selection.kinds.part
        return bool(gauges.all()) and len(selection.series) * _fine(steps).count <= MOST_CELLS

    def want(self, selection: Selection, steps: Steps) -> None:
        """Says what will be asked, as far as it fits into what may be held; what does not is read by itself."""
        fine = _fine(steps)
        wanted = np.union1d(self._wanted.get(fine, np.empty(0, np.int64)), selection.series)
        others = sum(len(held) * of.count for of, held in self._wanted.items() if of != fine)
        if others + len(wanted) * fine.count <= MOST_CELLS and fine not in self._read:
            self._wanted[fine] = wanted

    def mean(self, selection: Selection, steps: Steps) -> F64:
        """The mean of each group in each step, [groups, steps]; as exact as `Scan` is."""
        fine = _fine(steps)
        total, weight = self._sums(selection.series, fine)
        made = Combining("avg", len(selection.named), steps.count)
        made.add_sums(_coarser(total, steps.count), _coarser(weight, steps.count), selection.groups)
        return made.answer()

    def _sums(self, series: I64, fine: Steps) -> tuple[F64, F64]:
        wanted = self._wanted.get(fine, np.empty(0, np.int64))
        if not np.isin(series, wanted).all():
            order = np.argsort(series)
            total, weight = self._scan.sums(series[order].tolist(), fine)
            back = np.argsort(order)
            return total[back], weight[back]
        if fine not in self._read:
            self._read[fine] = self._scan.sums(wanted.tolist(), fine)
        rows = np.searchsorted(wanted, series)
        total, weight = self._read[fine]
        return total[rows], weight[rows]


def _fine(steps: Steps) -> Steps:
    return Steps(steps.start, WIDTH, steps.count * (steps.width // WIDTH))


def _coarser(sums: F64, steps: int) -> F64:
    added: F64 = sums.reshape(len(sums), steps, -1).sum(axis=2)
    return added
