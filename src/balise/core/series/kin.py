"""Bytes of metrics that are like others that were read, but for what a few of their metrics say.

Most agents of a fleet send the same metrics. What differs is the value of an attribute here and there: the serial
number of a disk, the name of a volume. Then only the metrics with such attributes are read anew.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from balise.core.series.forms import GroupForm, MetricForm, metrics_in
from balise.core.series.shapes import digest_of
from balise.core.series.words import Words

MOST_WORDS = 256 << 10
"""Bytes of where the words of metrics stand that are kept of one form."""
MOST_DIFFERENT = 4096
"""Bytes in which others may differ and still be looked at as kin."""


class Kin:
    """The form of a group's bytes after its resource, and those bytes, `rest`, without their numbers."""

    def __init__(self, form: GroupForm, rest: bytes) -> None:
        self._form = form
        self._blanked = np.frombuffer(form.shape.blanked(rest), np.uint8)
        spans = metrics_in(rest)
        self._starts, self._ends = [start for start, _ in spans], [end for _, end in spans]
        self._words: dict[int, Words | None] = {}
        self._words_size = 0

    @property
    def size(self) -> int:
        """About how many bytes of memory it takes."""
        return self._form.size + len(self._blanked) + 90 * len(self._starts) + self._words_size + 300

    def form_of(self, rest: bytes, metric_of: Callable[[bytes], MetricForm]) -> GroupForm | None:
        """The form of other bytes, with the metrics that differ read by `metric_of`; None when more differs than what
        metrics say in places that stay what they are. Raises WireError for a metric that is none."""
        if len(rest) != len(self._blanked):
            return None
        blanked = self._form.shape.blanked(rest)
        differ = np.flatnonzero(np.frombuffer(blanked, np.uint8) != self._blanked)
        if not len(differ):
            return self._form
        if len(differ) > MOST_DIFFERENT:
            return None
        others: dict[int, list[int]] = {}
        for at in differ.tolist():
            place = bisect_right(self._starts, at) - 1
            if place < 0 or at >= self._ends[place]:
                return None
            others.setdefault(place, []).append(at - self._starts[place])
        metrics = list(self._form.metrics)
        for place, places in others.items():
            start, end = self._starts[place], self._ends[place]
            words = self._words_of(place)
            made = words.form_of(rest[start:end], places) if words is not None else None
            if made is None:
                made = metric_of(rest[start:end])
                if made.read.variable or made.shape.key() != metrics[place].shape.key():
                    return None
            metrics[place] = made
        skipped = sum(made.read.skipped for made in metrics)
        return replace(
            self._form,
            digest=digest_of(blanked),
            metrics=metrics,
            skipped=skipped,
            notes={},
            like=(self._form, list(others)),
        )

    def _words_of(self, place: int) -> Words | None:
        """Those of a metric; None where there is no room for them."""
        if place not in self._words:
            made = Words(self._form.metrics[place], self._blanked[self._starts[place] : self._ends[place]].tobytes())
            fits = self._words_size + made.size <= MOST_WORDS
            self._words[place] = made if fits else None
            self._words_size += made.size if fits else 0
        return self._words[place]
