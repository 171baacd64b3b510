"""Bytes of metrics that are like others that were read, but for what a few of their metrics say.

Most agents of a fleet send the same metrics. What differs is the value of an attribute here and there: the serial
number of a disk, the name of a volume. Where such texts stand is learnt from the first that differ in them; of any
other difference only the metrics that have it are read anew.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from balise.core.series.forms import GroupForm, Likeness, MetricForm, metrics_in
from balise.core.series.shapes import digest_of
from balise.core.series.texts import Texts
from balise.core.series.wire import Span
from balise.core.series.words import Words

MOST_WORDS = 256 << 10
"""Bytes of where the words of metrics stand that are kept of one form."""
MOST_DIFFERENT = 4096
"""Bytes in which others may differ and still be looked at as kin."""
MOST_TEXTS = 256
"""Texts that are remembered as those in which kin differ."""


class Kin:
    """The form of a group's bytes after its resource, and those bytes, `rest`, without their numbers."""

    def __init__(self, form: GroupForm, rest: bytes) -> None:
        self._form = form
        self._blanked = bytes(form.shape.blanked(rest))
        spans = metrics_in(rest)
        self._starts, self._ends = [start for start, _ in spans], [end for _, end in spans]
        self._words: dict[int, Words | None] = {}
        self._words_size = 0
        self._texts: Texts | None = None
        """Of all that came, or of the last."""

    @property
    def size(self) -> int:
        """About how many bytes of memory it takes."""
        held = self._form.size + len(self._blanked) + 90 * len(self._starts) + self._words_size + 300
        return held + (self._texts.size if self._texts is not None else 0)

    def form_of(self, rest: bytes, metric_of: Callable[[bytes], MetricForm]) -> GroupForm | None:
        """The form of other bytes, with the metrics that differ read by `metric_of`; None when more differs than what
        metrics say in places that stay what they are. Raises WireError for a metric that is none."""
        if len(rest) != len(self._blanked):
            return None
        blanked = bytes(self._form.shape.blanked(rest))
        if blanked == self._blanked:
            return self._form
        if self._texts is not None and self._texts.fit(blanked):
            return self._texts.form_of(rest, blanked)
        differ = np.flatnonzero(np.frombuffer(blanked, np.uint8) != np.frombuffer(self._blanked, np.uint8)).tolist()
        if len(differ) > MOST_DIFFERENT:
            return None
        texts = self._texts_of(rest, differ)
        if texts is None:
            return self._read(rest, digest_of(blanked), differ, metric_of)
        self._texts = texts
        return texts.form_of(rest, blanked)

    def _texts_of(self, rest: bytes, differ: Sequence[int]) -> Texts | None:
        """Those in which these bytes differ, and others before them; None when they differ in anything else."""
        fresh = self._spans_at(differ)
        if fresh is None or len(fresh) > MOST_TEXTS:
            return None
        before = self._texts.told if self._texts is not None else {}
        if len(fresh | before.keys()) > MOST_TEXTS:
            before = {}
        told = {
            span: (before.get(span, self._blanked[slice(*span)]), rest[slice(*span)])
            for span in sorted(fresh | before.keys())
        }
        places = sorted({self._metric_at(start) for start, _ in told})
        words = {place: own for place in places if (own := self._words_of(place)) is not None}
        return Texts(self._form, self._blanked, words, told)

    def _spans_at(self, differ: Sequence[int]) -> set[Span] | None:
        """The texts that have these bytes; None when any is of something else."""
        found: set[Span] = set()
        for at in differ:
            words = self._words_of(place) if (place := self._metric_at(at)) >= 0 else None
            span = words.span_at(at) if words is not None else None
            if span is None:
                return None
            found.add(span)
        return found

    def _read(
        self, rest: bytes, digest: bytes, differ: Sequence[int], metric_of: Callable[[bytes], MetricForm]
    ) -> GroupForm | None:
        """The form of bytes of which the metrics that differ are read."""
        others = {self._metric_at(at) for at in differ}
        if -1 in others:
            return None
        metrics = list(self._form.metrics)
        for place in sorted(others):
            made = metric_of(rest[self._starts[place] : self._ends[place]])
            if made.read.variable or made.shape.key() != metrics[place].shape.key():
                return None
            metrics[place] = made
        skipped = sum(made.read.skipped for made in metrics)
        like = self._likeness(metrics, sorted(others))
        return replace(self._form, digest=digest, read=lambda: metrics, skipped=skipped, notes={}, like=like)

    def _likeness(self, metrics: Sequence[MetricForm], others: Sequence[int]) -> Likeness | None:
        """What metrics say instead of what those of the form say; None when they have other names."""
        form = self._form
        if any(metrics[place].read.name != form.metrics[place].read.name for place in others):
            return None
        numbers = [form.starts[place] + at for place in others for at in range(len(metrics[place].shape))]
        traits = [(slot.attributes, slot.part, slot.kind) for place in others for slot in metrics[place].read.slots]
        return Likeness(form, traits, np.array(numbers, np.int64), np.arange(len(numbers)))

    def _metric_at(self, at: int) -> int:
        """The metric that has a byte, -1 when none does."""
        place = bisect_right(self._starts, at) - 1
        return place if place >= 0 and at < self._ends[place] else -1

    def _words_of(self, place: int) -> Words | None:
        """Those of a metric; None where there is no room for them."""
        if place not in self._words:
            start = self._starts[place]
            made = Words(self._form.metrics[place], self._blanked[start : self._ends[place]], start)
            fits = self._words_size + made.size <= MOST_WORDS
            self._words[place] = made if fits else None
            self._words_size += made.size if fits else 0
        return self._words[place]
