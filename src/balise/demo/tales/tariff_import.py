"""A price import holds row locks: booking sessions wait, the site slows, gates time out."""

from __future__ import annotations

import random
from collections.abc import Iterator
from typing import Any

import numpy as np

from balise.core.events.new_event import NewEvent
from balise.demo.fleet import GIB, Ship
from balise.demo.lines import line, moments, requested
from balise.demo.stories import Occurrence
from balise.demo.tales.tale import F64, Tale
from balise.demo.weight import Weight

HOST = "book-db-n1"
PID = 4711
_DELAYS = {"application": 90.0, "web": 140.0, "gate-controller": 235.0}
"""How much later than the database each feels it, seconds."""


class TariffImport(Tale):
    name = "tariff-import"
    minutes = (27, 45)
    seen = {"application": "Booking"}

    def weigh(self, ship: Ship, one: Occurrence, times: F64, load: F64, weight: Weight) -> None:
        if ship.name == HOST:
            felt = one.strength(times, rise=75.0)
        elif ship.group in ("Booking", "Boarding gates") and ship.role in _DELAYS and ship.site == "northquay":
            felt = one.strength(times, delay=_DELAYS[ship.role], rise=80.0)
        else:
            return
        weight.stuck = np.maximum(weight.stuck, felt)

    def lines(self, ship: Ship, one: Occurrence, start: float, end: float, chance: random.Random) -> Iterator[NewEvent]:
        if ship.name == HOST:
            yield from self._of_database(ship, one, start, end, chance)
        elif ship.group == "Booking" and ship.role == "application":
            for at in moments(max(start, one.start + 110), min(end, one.end), 9.0, chance):
                text = f"no free worker for {chance.randrange(2, 30)} s: {chance.randrange(120, 190)} of 200 wait for the database"
                yield line(ship, at, "warning", "booking", text)
        elif ship.group == "Booking" and ship.role == "web":
            for at in moments(max(start, one.start + 150), min(end, one.end), 5.0, chance):
                text = f"upstream book-app-n{chance.randrange(1, 3)} timed out after 10 s while reading the answer to POST /bookings"
                yield line(ship, at, "error", "web", text)
                told = f"192.0.2.{chance.randrange(2, 250)} POST /bookings 504 10.0{chance.randrange(10)}"
                yield line(ship, at + 0.01, "informational", "web", told, requested(told))
        elif ship.role == "gate-controller" and ship.site == "northquay":
            for at in moments(max(start, one.start + 250), min(end, one.end), 12.0, chance):
                text = (
                    f"ticket look-up for {chance.randrange(10_000, 99_999)} failed: booking did not answer within 5 s"
                )
                yield line(ship, at, "error", "gate", text)

    @staticmethod
    def _of_database(
        ship: Ship, one: Occurrence, start: float, end: float, chance: random.Random
    ) -> Iterator[NewEvent]:
        yield line(ship, one.start - 3, "notice", "change", "scheduled job tariff-import started by fares, from files-h1",
                   {"change.kind": "schedule", "change.who": "fares", "job": "tariff-import"})  # fmt: skip
        for at in moments(max(start, one.start + 40), min(end, one.end), 7.0, chance):
            pid, waited = 4720 + chance.randrange(14), chance.randrange(1000, 240_000)
            text = f"process {pid} still waiting for ShareLock on transaction 88121 after {waited}.{pid % 999:03d} ms"
            attributes = {"db.user": "booking", "detail": f"Process holding the lock: {PID}. Wait queue: {pid}."}
            yield line(ship, at, "warning", "postgresql", text, attributes)
            if chance.random() < 0.4:
                text = f"duration: {waited + 900}.2 ms  statement: select seat from seats where sailing = $1 for update"
                yield line(ship, at + 0.5, "notice", "postgresql", text)

    def processes(self, ship: Ship, one: Occurrence, at: float) -> list[dict[str, Any]]:
        felt = float(one.strength(np.array([at]), rise=75.0)[0])
        if ship.name != HOST or felt <= 0.05:
            return []
        return [{"pid": PID, "parent": 292, "name": "postgres: tariff-import", "user": "postgres", "cpu": 0.96 * felt,
                 "memory": int(1.9 * GIB), "started": one.start,
                 "command": "postgres: fares booking 203.0.113.17(51144) idle in transaction",
                 "unit": "postgresql@15-booking.service"}]  # fmt: skip

    def sessions(self, ship: Ship, one: Occurrence, at: float) -> list[dict[str, Any]]:
        if ship.name != HOST or not one.start <= at <= one.end:
            return []
        waits = int(14 * float(one.strength(np.array([at]), rise=75.0)[0]))
        began = at - one.start
        state = "idle in transaction" if waits > 12 else "active"
        statement = "update fares set price = price * 1.04 where season = 'winter'"
        rows = [session(PID, "tariff-import", "fares", state, statement, began, None)]
        for i in range(waits):
            blocker = PID if i == 0 or i % 3 else PID + 9
            waited = max(1.0, began - 20 - 35 * i)
            statement = "select seat from seats where sailing = $1 for update"
            rows.append(session(PID + 9 + i, f"booking-{i + 2}", "booking", "active", statement, waited, blocker))
        return rows


def session(
    number: int, application: str, user: str, state: str, statement: str, seconds: float, blocked_by: int | None
) -> dict[str, Any]:
    """A session of the booking database, as its kit tells it."""
    return {
        "id": number,
        "service": "booking",
        "application": application,
        "user": user,
        "client": "192.0.2.41" if application.startswith("booking") else "203.0.113.17",
        "state": state,
        "statement": statement,
        "seconds": round(seconds, 1),
        "blocked_by": blocked_by,
    }
