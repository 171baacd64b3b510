"""A gate controller loses its network."""

from __future__ import annotations

import random
from collections.abc import Iterator

from balise.core.events.new_event import NewEvent
from balise.demo.fleet import Ship
from balise.demo.lines import line, moments
from balise.demo.stories import Occurrence
from balise.demo.tales.tale import F64, Tale
from balise.demo.weight import Weight

HOST = "gate-n2"


class LostGate(Tale):
    name = "lost-gate"
    minutes = (20, 60)
    seen = {"application": "Boarding gates"}

    def weigh(self, ship: Ship, one: Occurrence, times: F64, load: F64, weight: Weight) -> None:
        if ship.name in ("gate-n1", "gate-n3"):
            # Who cannot go through one gate goes through the next.
            weight.more += 0.4 * load * one.strength(times, delay=40.0, rise=60.0)

    def lines(self, ship: Ship, one: Occurrence, start: float, end: float, chance: random.Random) -> Iterator[NewEvent]:
        if ship.name == "gate-mq-n1":
            for at in moments(max(start, one.start + 15), min(end, one.end), 20.0, chance):
                yield line(
                    ship,
                    at,
                    "warning",
                    "broker",
                    f"connection of {HOST} lost: no heartbeat for {chance.randrange(30, 90)} s",
                )
