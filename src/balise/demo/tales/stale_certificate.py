"""The certificate of the timetable runs out."""

from __future__ import annotations

import random
from collections.abc import Iterator

from balise.core.events.new_event import NewEvent
from balise.demo.fleet import Ship
from balise.demo.lines import line, moments
from balise.demo.stories import Occurrence
from balise.demo.tales.tale import F64, Tale
from balise.demo.weight import Weight

HOST, NAME = "web-h1", "timetable.skerry.example"


class StaleCertificate(Tale):
    name = "stale-certificate"
    seen = {"application": "Departures"}

    def weigh(self, ship: Ship, one: Occurrence, times: F64, load: F64, weight: Weight) -> None:
        if ship.name == HOST:
            out = one.strength(times, rise=1.0, fall=1.0)
            weight.certificate += out
            weight.idle += 0.8 * out
        elif ship.name == "disp-n1":
            weight.failing += 0.7 * one.strength(times, delay=25.0, rise=20.0)

    def lines(self, ship: Ship, one: Occurrence, start: float, end: float, chance: random.Random) -> Iterator[NewEvent]:
        if ship.name == HOST:
            for at in moments(max(start, one.start + 2), min(end, one.end), 6.0, chance):
                client = f"192.0.2.{chance.randrange(2, 250)}"
                yield line(ship, at, "error", "web", f"handshake with {client} refused: certificate {NAME} has expired",
                           {"tls.server.name": NAME, "client.address": client})  # fmt: skip
            yield line(ship, one.end, "notice", "change", f"certificate {NAME} renewed by ops", {"change.kind": "certificate", "change.who": "ops"})  # fmt: skip
        elif ship.name == "disp-n1":
            for at in moments(max(start, one.start + 30), min(end, one.end), 10.0, chance):
                yield line(ship, at, "error", "display", f"cannot read https://{NAME}/next: certificate has expired")
