"""Texts of attributes in which the bytes of kin differ: read from their places, and nothing else of those bytes."""

from __future__ import annotations

from collections.abc import Hashable, Mapping, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from balise.core.series.forms import GroupForm, Likeness, MetricForm
from balise.core.series.shapes import BRIEF
from balise.core.series.wire import Attributes, Span, Trait, short_text
from balise.core.series.words import Words


class Texts:
    """Those of a form. Bytes that are the same beside them are understood by them."""

    def __init__(self, form: GroupForm, said: bytes, words: Mapping[int, Words], told: Mapping[Span, Hashable]) -> None:
        """
        Args:
            said: the form's bytes without their numbers.
            words: by their place among the form's metrics, those of which texts differ.
            told: where the texts stand, each with what tells it from others: those that were always the same as each
                other are read once.
        """
        self._form = form
        number = {one: place for place, one in enumerate(dict.fromkeys(told.values()))}
        self.told = {span: number[one] for span, one in told.items()}
        self._same: list[list[slice]] = [[] for _ in number]
        """Where the same text stands."""
        for span, one in self.told.items():
            self._same[one].append(slice(*span))
        places = np.concatenate([np.empty(0, np.intp), *(np.arange(start, end) for start, end in self.told)])
        self._apart = np.split(places, range(BRIEF, len(places), BRIEF))
        """The places of all their bytes, as many together as are put at once."""
        self._left = self._without(said)
        self._traits: list[tuple[Trait, tuple[tuple[int, int], ...]]] = []
        """Each with those of its attributes that have another value, and which text that is."""
        self._places: NDArray[np.int64]
        self._which: NDArray[np.int64]
        self._place(words)

    def _place(self, words: Mapping[int, Words]) -> None:
        numbers: dict[Hashable, int] = {}
        places, which = [], []
        for place, own in words.items():
            for at, (slot, mine) in enumerate(zip(self._form.metrics[place].read.slots, own.of_each, strict=True)):
                others = tuple((attribute, self.told[span]) for attribute, span in mine if span in self.told)
                if others:
                    one = ((slot.attributes, slot.part, slot.kind), others)
                    if one not in numbers:
                        numbers[one] = len(self._traits)
                        self._traits.append(one)
                    places.append(self._form.starts[place] + at)
                    which.append(numbers[one])
        self._places, self._which = np.array(places, np.int64), np.array(which, np.int64)

    @property
    def size(self) -> int:
        """About how many bytes of memory it takes."""
        return (
            600
            + len(self._left)
            + 8 * sum(map(len, self._apart))
            + 250 * len(self.told)
            + 400 * len(self._traits)
            + 16 * len(self._places)
        )

    def fit(self, said: bytes) -> bool:
        """Whether bytes, without their numbers, differ from the form's in these texts only, and those that were the
        same as each other are so in them."""
        if self._without(said) != self._left:
            return False
        for first, *others in self._same:
            text = said[first]
            for place in others:
                if said[place] != text:
                    return False
        return True

    def _without(self, said: bytes) -> bytearray:
        left = bytearray(said)
        written = np.frombuffer(left, np.uint8)
        for places in self._apart:
            written[places] = 0
        return left

    def form_of(self, rest: bytes, said: bytes) -> GroupForm:
        """The form of bytes that fit, which are `said` without their numbers. Raises WireError for a text that is
        none."""
        texts = [short_text(rest, (first.start, first.stop)) for first, *_ in self._same]
        traits = [(_with(attributes, others, texts), part, kind) for (attributes, part, kind), others in self._traits]
        like = Likeness(self._form, traits, self._places, self._which)
        form = self._form
        return GroupForm(form.shape, b"", lambda: _metrics(like), form.skipped, form.fixed, like=like, mark=hash(said))


def _with(attributes: Attributes, others: Sequence[tuple[int, int]], texts: Sequence[str]) -> Attributes:
    pairs = list(attributes)
    for place, text in others:
        pairs[place] = (pairs[place][0], texts[text])
    return tuple(pairs)


def _metrics(like: Likeness) -> list[MetricForm]:
    """The metrics of a form that is like another."""
    traits = dict(zip(like.places.tolist(), (like.traits[one] for one in like.which.tolist()), strict=True))
    found = []
    for metric, start in zip(like.form.metrics, like.form.starts, strict=False):
        own = [(slot, traits.get(start + at)) for at, slot in enumerate(metric.read.slots)]
        if any(trait for _, trait in own):
            slots = [replace(slot, attributes=trait[0]) if trait else slot for slot, trait in own]
            metric = MetricForm(metric.shape, b"", replace(metric.read, slots=slots))
        found.append(metric)
    return found
