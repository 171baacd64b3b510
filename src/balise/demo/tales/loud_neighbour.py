"""One backup takes the processor time of everything else on its machine."""

from __future__ import annotations

import random
from collections.abc import Iterator
from typing import Any

from balise.core.events.new_event import NewEvent
from balise.demo.fleet import GIB, Ship
from balise.demo.lines import line, moments
from balise.demo.stories import Occurrence
from balise.demo.tales.tale import F64, Tale
from balise.demo.weight import Weight

MACHINE = "hv-s1"


class LoudNeighbour(Tale):
    name = "loud-neighbour"
    seen = {"application": "Departures"}

    def weigh(self, ship: Ship, one: Occurrence, times: F64, load: F64, weight: Weight) -> None:
        taken = one.strength(times, rise=45.0)
        if ship.name == MACHINE:
            weight.cpu += 0.52 * taken
            weight.waiting += 0.06 * taken
        elif ship.machine == MACHINE:
            felt = one.strength(times, delay=12.0, rise=50.0)
            weight.stolen += 0.34 * felt
            weight.slow += 0.9 * one.strength(times, delay=35.0, rise=60.0)
            if ship.role == "timetable":
                weight.failing += 0.02 * one.strength(times, delay=60.0)
        elif ship.name == "disp-s1":
            weight.slow += 0.5 * one.strength(times, delay=80.0)

    def lines(self, ship: Ship, one: Occurrence, start: float, end: float, chance: random.Random) -> Iterator[NewEvent]:
        if ship.name == MACHINE:
            yield line(ship, one.start, "notice", "backup", "full copy of /srv/vm begun out of its hours, 14 streams")
        elif ship.machine == MACHINE and ship.role == "timetable":
            for at in moments(max(start, one.start + 80), min(end, one.end), 20.0, chance):
                yield line(
                    ship, at, "warning", "web", f"answer to GET /timetable took {chance.uniform(1.1, 3.9):.1f} s"
                )

    def processes(self, ship: Ship, one: Occurrence, at: float) -> list[dict[str, Any]]:
        if ship.name != MACHINE or not one.start <= at <= one.end:
            return []
        return [{"pid": 7203, "parent": 1, "name": "backup", "user": "backup", "cpu": 15.5, "memory": 3 * GIB,
                 "started": one.start, "command": "backup --full /srv/vm --streams 14", "unit": "backup.service"}]  # fmt: skip
