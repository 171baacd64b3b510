"""A new version answers with errors."""

from __future__ import annotations

import random
from collections.abc import Iterator

from balise.core.events.new_event import NewEvent
from balise.demo.fleet import Ship
from balise.demo.lines import line, moments, requested
from balise.demo.stories import Occurrence
from balise.demo.tales.tale import F64, Tale
from balise.demo.weight import Weight

HOSTS = {"web-n1": 0.0, "web-n2": 75.0}
"""Where it is rolled out, and how many seconds after the first."""
BEFORE, AFTER = "5.2.0-1", "5.3.0-1"


class BadRollout(Tale):
    name = "bad-rollout"
    minutes = (20, 40)
    seen = {"application": "Booking"}

    def weigh(self, ship: Ship, one: Occurrence, times: F64, load: F64, weight: Weight) -> None:
        if ship.name in HOSTS:
            weight.failing += 0.24 * one.strength(times, delay=HOSTS[ship.name] + 8, rise=20.0)
            weight.slow += 0.15 * one.strength(times, delay=HOSTS[ship.name] + 8, rise=20.0)
        elif ship.role == "gate-controller" and ship.site == "northquay":
            weight.failing += 0.06 * one.strength(times, delay=110.0, rise=60.0)

    def lines(self, ship: Ship, one: Occurrence, start: float, end: float, chance: random.Random) -> Iterator[NewEvent]:
        if ship.name in HOSTS:
            since = one.start + HOSTS[ship.name]
            for at, before, after in ((since, BEFORE, AFTER), (one.end - 10, AFTER, BEFORE)):
                yield line(ship, at, "notice", "change", f"package booking-web changed: {before} → {after}",
                           {"change.kind": "package", "change.what": "booking-web", "change.before": before,
                            "change.after": after, "change.who": "rollout"})  # fmt: skip
            for at in moments(max(start, since + 10), min(end, one.end), 4.0, chance):
                yield line(
                    ship,
                    at,
                    "error",
                    "web",
                    f"unhandled exception in booking-web {AFTER}: field 'fare_class' is missing",
                )
                told = f"192.0.2.{chance.randrange(2, 250)} POST /bookings 500 0.0{chance.randrange(10, 99)}"
                yield line(ship, at + 0.01, "informational", "web", told, requested(told))
