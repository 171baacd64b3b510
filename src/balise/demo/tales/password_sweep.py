"""One address tries the passwords of many accounts."""

from __future__ import annotations

import random
from collections.abc import Iterator

from balise.core.events.new_event import NewEvent
from balise.demo.fleet import Ship
from balise.demo.lines import line, moments
from balise.demo.stories import Occurrence
from balise.demo.tales.tale import F64, Tale
from balise.demo.weight import Weight

HOST, STRANGER = "bastion-h1", "203.0.113.201"
_ACCOUNTS = [
    "root",
    "admin",
    "ops",
    "fares",
    "backup",
    "deploy",
    "postgres",
    "gate",
    "crew",
    "timetable",
    "office",
    "skipper",
    "mate",
    "engineer",
    "purser",
]


class PasswordSweep(Tale):
    name = "password-sweep"
    seen = {"host": HOST}

    def weigh(self, ship: Ship, one: Occurrence, times: F64, load: F64, weight: Weight) -> None:
        if ship.name == HOST:
            felt = one.strength(times, rise=20.0)
            weight.tried += 2.4 * felt
            weight.cpu += 0.22 * felt

    def lines(self, ship: Ship, one: Occurrence, start: float, end: float, chance: random.Random) -> Iterator[NewEvent]:
        if ship.name == HOST:
            for at in moments(max(start, one.start), min(end, one.end), 2.5, chance):
                account = chance.choice(_ACCOUNTS)
                known = "" if account in ("ops", "fares", "root") else "invalid user "
                yield line(ship, at, "informational", "sshd",
                           f"Failed password for {known}{account} from {STRANGER} port {chance.randrange(30_000, 60_000)} ssh2")  # fmt: skip
