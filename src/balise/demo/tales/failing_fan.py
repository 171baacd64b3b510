"""A fan slows, temperatures rise, the processor throttles itself."""

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

MACHINE = "hv-n1"


class FailingFan(Tale):
    name = "failing-fan"
    minutes = (40, 60)
    seen = {"application": "Booking"}

    def weigh(self, ship: Ship, one: Occurrence, times: F64, load: F64, weight: Weight) -> None:
        heat = one.strength(times, rise=600.0, fall=300.0)
        throttled = np.clip((heat - 0.55) / 0.3, 0, 1)
        if ship.name == MACHINE:
            weight.heat += heat
        elif ship.machine == MACHINE:
            weight.stolen += 0.30 * throttled
            weight.slow += 0.75 * throttled

    def lines(self, ship: Ship, one: Occurrence, start: float, end: float, chance: random.Random) -> Iterator[NewEvent]:
        if ship.name == MACHINE:
            for at in moments(max(start, one.start + 20), min(end, one.end), 45.0, chance):
                yield line(
                    ship, at, "warning", "ipmi", f"fan 2 at {chance.randrange(900, 1700)} rpm, below its least of 2000"
                )
            for at in moments(max(start, one.start + 360), min(end, one.end), 40.0, chance):
                yield line(ship, at, "critical", "kernel", f"cpu{chance.randrange(32)}: package temperature above threshold, clock throttled")  # fmt: skip
