"""Bytes of metrics that are like others that were read, but for what a few of their metrics say.

Most agents of a fleet send the same metrics. What differs is the value of an attribute here and there: the serial
number of a disk, the name of a volume. Then only the metrics with such attributes are read anew.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from balise.core.series.forms import GroupForm, MetricForm, metrics_in
from balise.core.series.shapes import digest_of


class Kin:
    """The form of a group's bytes after its resource, and those bytes, `rest`, without their numbers."""

    def __init__(self, form: GroupForm, rest: bytes) -> None:
        self._form = form
        self._blanked = np.frombuffer(form.shape.blanked(rest), np.uint8)
        spans = np.array(metrics_in(rest), np.int64).reshape(-1, 2)
        self._starts, self._ends = spans[:, 0].copy(), spans[:, 1].copy()

    @property
    def size(self) -> int:
        """About how many bytes of memory it takes."""
        return self._form.size + len(self._blanked) + 16 * len(self._starts) + 300

    def form_of(self, rest: bytes, metric_of: Callable[[bytes], MetricForm]) -> GroupForm | None:
        """The form of other bytes, with the metrics that differ read by `metric_of`; None when more differs than what
        metrics say in places that stay what they are. Raises WireError for a metric that is none."""
        if len(rest) != len(self._blanked):
            return None
        blanked = self._form.shape.blanked(rest)
        differ = np.flatnonzero(np.frombuffer(blanked, np.uint8) != self._blanked)
        at = np.searchsorted(self._starts, differ, side="right") - 1
        if len(at) and (at[0] < 0 or (differ >= self._ends[at]).any()):
            return None
        metrics = list(self._form.metrics)
        for place in np.unique(at).tolist():
            made = metric_of(rest[self._starts[place] : self._ends[place]])
            before = metrics[place]
            if made.read.variable or made.shape.key() != before.shape.key():
                return None
            metrics[place] = made
        skipped = sum(made.read.skipped for made in metrics)
        return replace(self._form, digest=digest_of(blanked), metrics=metrics, skipped=skipped, notes={})
