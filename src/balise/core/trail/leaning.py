"""What people said of causes before, as a bounded shift of the odds."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from balise.core.trail.ranking import MOST_LEANING
from balise.core.trail.things import Kind

DOUBT = 2.0
"""Incidents that are taken to have gone as expected before any was judged: few answers move little."""


@dataclass(frozen=True)
class Count:
    """Of a kind of thing: how often it was expected to be named as the cause, by what was said of it, and how often it
    was."""

    expected: float = 0.0
    right: int = 0

    @property
    def leaning(self) -> float:
        """`Count(expected=1.0, right=4).leaning == log(6 / 3)`; at most `MOST_LEANING` either way."""
        by = math.log((self.right + DOUBT) / (self.expected + DOUBT))
        return max(-MOST_LEANING, min(MOST_LEANING, by))


def counted(said: Iterable[tuple[Mapping[str, float], Kind | None]]) -> dict[str, Count]:
    """By kind, of what was expected and what was right in each incident somebody judged."""
    expected: dict[str, float] = {}
    right: dict[str, int] = {}
    for by_kind, kind in said:
        for name, probability in by_kind.items():
            expected[name] = expected.get(name, 0.0) + probability
        if kind is not None:
            right[kind] = right.get(kind, 0) + 1
    return {name: Count(expected.get(name, 0.0), right.get(name, 0)) for name in {*expected, *right}}
