"""Which words of a metric's bytes are the values of its attributes.

Bytes that say others there, and are the same beside, are understood without being walked.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence

from balise.core.series.forms import MetricForm
from balise.core.series.wire import ReadMetric, Slot, Span, attributes_at, short_text, text_span


class Words:
    """Those of one metric, from its form and its bytes; numbers may be anything in them."""

    def __init__(self, form: MetricForm, chunk: bytes) -> None:
        """Raises WireError: the bytes are no metric."""
        self._form = form
        self._of: list[list[tuple[int, Span]]] = []
        found: set[Span] = set()
        for slot, spans in zip(form.read.slots, attributes_at(chunk, (0, len(chunk))), strict=True):
            self._of.append(_texts(slot, chunk, spans))
            found.update(span for _, span in self._of[-1])
        self._starts, self._ends = [start for start, _ in sorted(found)], [end for _, end in sorted(found)]

    @property
    def size(self) -> int:
        """About how many bytes of memory it takes."""
        return 300 + 90 * len(self._starts) + sum(100 + 130 * len(own) for own in self._of)

    def form_of(self, chunk: bytes, differ: Sequence[int]) -> MetricForm | None:
        """The form of other bytes that differ at these places, ascending, and in numbers; None when that is not all in
        texts of attributes. Raises WireError for a text that is none."""
        others: set[int] = set()
        for at in differ:
            place = bisect_right(self._starts, at) - 1
            if place < 0 or at >= self._ends[place]:
                return None
            others.add(self._starts[place])
        made: dict[tuple[int, ...], tuple[tuple[str, str], ...]] = {}
        slots = []
        for slot, own in zip(self._form.read.slots, self._of, strict=True):
            mine = [(place, span) for place, span in own if span[0] in others]
            if mine:
                key = tuple(span[0] for _, span in own)
                if key not in made:
                    made[key] = _with(slot.attributes, chunk, mine)
                slot = Slot(made[key], slot.part, slot.kind, slot.value_at, slot.integer, slot.time_at)
            slots.append(slot)
        return MetricForm(self._form.shape, b"", ReadMetric(**{**vars(self._form.read), "slots": slots}))


def _with(
    attributes: tuple[tuple[str, str], ...], chunk: bytes, texts: list[tuple[int, Span]]
) -> tuple[tuple[str, str], ...]:
    pairs = list(attributes)
    for place, span in texts:
        pairs[place] = (pairs[place][0], short_text(chunk, span))
    return tuple(pairs)


def _texts(slot: Slot, chunk: bytes, spans: list[Span]) -> list[tuple[int, Span]]:
    """Where in the slot's attributes those stand that are texts, and where in the bytes; none when keys repeat."""
    if len(spans) != len(slot.attributes):
        return []
    places = {key: place for place, (key, _) in enumerate(slot.attributes)}
    found = (text_span(chunk, span) for span in spans)
    return [(places[key], span) for key, span in (one for one in found if one is not None) if key in places]
