"""Which words of a metric's bytes are the values of its attributes."""

from __future__ import annotations

from bisect import bisect_right

from balise.core.series.forms import MetricForm
from balise.core.series.wire import Slot, Span, attributes_at, text_span

Word = tuple[int, Span]
"""Which of a number's attributes, and where in the bytes its value stands."""


class Words:
    """Those of one metric, from its form and its bytes, which stand from `start` on, whatever its numbers are."""

    def __init__(self, form: MetricForm, chunk: bytes, start: int) -> None:
        """Raises WireError: the bytes are no metric."""
        named = attributes_at(chunk, (0, len(chunk)))
        self.of_each: list[list[Word]] = [
            _texts(slot, chunk, spans, start) for slot, spans in zip(form.read.slots, named, strict=True)
        ]
        """Those of each number."""
        found = sorted({span for own in self.of_each for _, span in own})
        self._starts, self._ends = [start for start, _ in found], [end for _, end in found]

    @property
    def size(self) -> int:
        """About how many bytes of memory it takes."""
        return 300 + 90 * len(self._starts) + sum(100 + 130 * len(own) for own in self.of_each)

    def span_at(self, place: int) -> Span | None:
        """Where the word stands that has a byte; None for a byte that is of none."""
        found = bisect_right(self._starts, place) - 1
        inside = found >= 0 and place < self._ends[found]
        return (self._starts[found], self._ends[found]) if inside else None


def _texts(slot: Slot, chunk: bytes, spans: list[Span], start: int) -> list[Word]:
    """Those of the slot's attributes that are texts; none when keys repeat."""
    if len(spans) != len(slot.attributes):
        return []
    places = {key: place for place, (key, _) in enumerate(slot.attributes)}
    found = (text_span(chunk, span) for span in spans)
    return [
        (places[key], (first + start, end + start))
        for key, (first, end) in (one for one in found if one is not None)
        if key in places
    ]
