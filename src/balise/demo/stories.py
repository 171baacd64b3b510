"""Faults with a known true cause, and when they happen."""

from __future__ import annotations

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
    """All occurrences of all stories."""

    def __init__(self, occurrences: list[Occurrence]) -> None:
        self.occurrences = occurrences

    def of(self, story: str) -> list[Occurrence]:
        return [o for o in self.occurrences if o.story == story]

    def strength(self, story: str, times: F64, *, delay: float = 0.0, rise: float = 90.0, fall: float = 60.0) -> F64:
        felt = np.zeros_like(times)
        for one in self.of(story):
            if one.end + HOUR > times[0] and one.start < times[-1] + 1:
                felt = np.maximum(felt, one.strength(times, delay=delay, rise=rise, fall=fall))
        return felt

    def fullness(self, times: F64) -> F64:
        """full-deck: how much the volume has gained, as a share of its size."""
        gained = np.zeros_like(times)
        for one in self.of("full-deck"):
            part = one.progress(times)
            gained = np.maximum(gained, 0.685 * np.minimum(1.0, part * 1.55) ** 1.1)
        return gained


LOST = "gate-n2"
"""The gate that loses its network in `lost-gate`."""


def schedule_from(started: float, days: float) -> Schedule:
    """The stories at work when the demo starts, again every few hours, and a few times in the past."""
    occurrences = [
        Occurrence("tariff-import", started - 6 * MINUTE, started + 50 * MINUTE),
        Occurrence("full-deck", started - 130 * MINUTE, started + 80 * MINUTE),
        Occurrence("lost-gate", started + 65 * MINUTE, started + 90 * MINUTE),
    ]
    occurrences += [
        Occurrence("lost-gate", started + (n * 8 + 2) * HOUR, started + (n * 8 + 2) * HOUR + 25 * MINUTE)
        for n in range(1, 22)
    ]
    occurrences += [
        Occurrence("tariff-import", started + n * 4 * HOUR, started + n * 4 * HOUR + 40 * MINUTE) for n in range(1, 45)
    ]
    occurrences += [
        Occurrence("full-deck", started + n * 9 * HOUR, started + n * 9 * HOUR + 210 * MINUTE) for n in range(1, 20)
    ]
    for back, story, length in (
        (1.3, "tariff-import", 38 * MINUTE),
        (2.6, "full-deck", 210 * MINUTE),
        (4.1, "tariff-import", 27 * MINUTE),
        (5.4, "full-deck", 210 * MINUTE),
        (6.2, "tariff-import", 44 * MINUTE),
        (0.8, "lost-gate", 23 * MINUTE),
        (9.7, "lost-gate", 71 * MINUTE),
    ):
        if back < days:
            at = started - back * DAY
            occurrences.append(Occurrence(story, at, at + length))
    return Schedule(sorted(occurrences, key=lambda o: o.start))
