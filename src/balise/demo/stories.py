"""Faults with a known true cause, and when they happen."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

F64 = NDArray[np.float64]
MINUTE, HOUR, DAY = 60.0, 3600.0, 86_400.0


@dataclass(frozen=True)
class Occurrence:
    """One time that a story happens, unix seconds."""

    story: str
    start: float
    end: float

    def strength(self, times: F64, *, delay: float = 0.0, rise: float = 90.0, fall: float = 60.0) -> F64:
        """How much of it is felt, 0 to 1, for something that feels it `delay` seconds later."""
        up = np.clip((times - self.start - delay) / rise, 0.0, 1.0)
        down = np.clip(1.0 - (times - self.end - delay / 3) / fall, 0.0, 1.0)
        return np.minimum(up, down)

    def progress(self, times: F64) -> F64:
        """How far between its start and its end, 0 before and after."""
        part = (times - self.start) / (self.end - self.start)
        return np.where((part >= 0) & (part <= 1), part, 0.0)


class Schedule:
    """All occurrences of all stories, and of what only looks like one."""

    def __init__(self, occurrences: list[Occurrence]) -> None:
        self.occurrences = sorted(occurrences, key=lambda one: one.start)

    def of(self, story: str) -> list[Occurrence]:
        return [o for o in self.occurrences if o.story == story]

    def around(self, start: float, end: float) -> Iterator[Occurrence]:
        """Those that are felt or spoken of between two moments."""
        for one in self.occurrences:
            if one.start - 120 <= end and one.end + 600 >= start:
                yield one

    def at_work(self, story: str, at: float) -> bool:
        return any(one.start <= at <= one.end for one in self.of(story))

    def strength(self, story: str, times: F64, *, delay: float = 0.0, rise: float = 90.0, fall: float = 60.0) -> F64:
        felt = np.zeros_like(times)
        for one in self.of(story):
            if one.end + HOUR > times[0] and one.start < times[-1] + 1:
                felt = np.maximum(felt, one.strength(times, delay=delay, rise=rise, fall=fall))
        return felt


LOST = "gate-n2"
"""The gate that loses its network in `lost-gate`."""
