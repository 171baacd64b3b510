"""What came late: of which groups, and what time it is about."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
Span = tuple[float, float]
"""From when to when, unix seconds."""
LATE = 60.0
"""Seconds after which what comes is late: whoever was asked meanwhile did not know of it."""
MOST = 20_000
"""Groups of one rule of which it is noted."""


class Late:
    """Notes what came late until it is taken, of at most `MOST` groups."""

    def __init__(self) -> None:
        self._spans: dict[int, Span] = {}
        self.left_out = 0
        """Groups that found no room."""

    def note(self, groups: I64, times: F64, now: float) -> None:
        """Something of these groups came at `now` that was made at these times, unix seconds [n]."""
        late = now - times > LATE
        if not late.any():
            return
        present, local = np.unique(groups[late], return_inverse=True)
        first, last = np.full(len(present), np.inf), np.full(len(present), -np.inf)
        np.minimum.at(first, local, times[late])
        np.maximum.at(last, local, times[late])
        for group, start, end in zip(present.tolist(), first.tolist(), last.tolist(), strict=True):
            held = self._spans.get(group)
            if held is None and len(self._spans) >= MOST:
                self.left_out += 1
                continue
            self._spans[group] = joined(held, (start, end))

    def take(self) -> dict[int, Span]:
        """What was noted since this was asked last, by group."""
        taken, self._spans = self._spans, {}
        return taken


def joined(one: Span | None, other: Span) -> Span:
    """The span that holds both."""
    return other if one is None else (min(one[0], other[0]), max(one[1], other[1]))
