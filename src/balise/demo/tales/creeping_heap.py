"""The memory of one booking server grows until long pauses start."""

from __future__ import annotations

import random
from collections.abc import Iterator

import numpy as np

from balise.core.events.new_event import NewEvent
from balise.demo.fleet import Ship
from balise.demo.lines import line, moments
from balise.demo.stories import Occurrence
from balise.demo.tales.tale import F64, Tale
from balise.demo.weight import Weight

HOST = "book-app-n2"
PAUSES = 0.62
"""Of the way to a full heap, from where on the collector cannot keep up."""


class CreepingHeap(Tale):
    name = "creeping-heap"
    minutes = (48, 70)
    seen = {"application": "Booking"}

    def weigh(self, ship: Ship, one: Occurrence, times: F64, load: F64, weight: Weight) -> None:
        grown = np.clip((times - one.start) / 1800, 0, 1) * (times < one.end)
        pausing = np.clip((grown - PAUSES) / 0.25, 0, 1)
        if ship.name == HOST:
            weight.heap += 0.38 * grown
            weight.paused += 4.5 * pausing * (0.7 + 0.3 * np.sin(times / 41))
            weight.slow += 1.4 * pausing
            weight.cpu += 0.30 * pausing
            weight.idle += 0.25 * pausing
        elif ship.role == "web" and ship.group == "Booking":
            later = np.interp(times - 45, times, pausing, left=0.0) if len(times) > 1 else pausing
            weight.slow += 0.55 * later
            weight.failing += 0.03 * later

    def lines(self, ship: Ship, one: Occurrence, start: float, end: float, chance: random.Random) -> Iterator[NewEvent]:
        since = one.start + 1800 * PAUSES
        if ship.name == HOST:
            for at in moments(max(start, since + 30), min(end, one.end), 14.0, chance):
                took, held = chance.uniform(1.8, 6.2), chance.uniform(91, 98.6)
                yield line(
                    ship,
                    at,
                    "warning",
                    "booking",
                    f"collector paused all threads for {took:.1f} s, heap {held:.0f} % full",
                )
            yield line(ship, one.end, "notice", "change", "booking.service restarted by ops", {"change.kind": "service", "change.who": "ops"})  # fmt: skip
        elif ship.role == "web" and ship.group == "Booking":
            for at in moments(max(start, since + 120), min(end, one.end), 30.0, chance):
                yield line(ship, at, "warning", "web", f"upstream {HOST} answered after {chance.uniform(3, 8):.1f} s")
