"""Disturbances that are the cause of nothing, as every fleet has them each day."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from balise.api.events import Severity
from balise.core.events.new_event import NewEvent
from balise.demo.fleet import Ship
from balise.demo.lines import line, moments
from balise.demo.stories import Occurrence
from balise.demo.tales import TALES
from balise.demo.tales.tale import F64, Tale
from balise.demo.weight import Weight

Weigh = Callable[[Weight, F64], None]
"""What it does to a host, by how much it is felt at each moment, 0 to 1."""


@dataclass(frozen=True)
class Quirk(Tale):
    """One disturbance on one host: one line at its begin, others now and then, and a little weight."""

    host: str
    begin: tuple[Severity, str, str]
    minutes: tuple[int, int] = (5, 20)
    attributes: Mapping[str, Any] | None = None
    says: tuple[Severity, str, str] | None = None
    does: Weigh | None = None
    process: str = ""

    def weigh(self, ship: Ship, one: Occurrence, times: F64, load: F64, weight: Weight) -> None:
        if ship.name == self.host and self.does is not None:
            self.does(weight, one.strength(times, rise=20.0, fall=20.0))

    def lines(self, ship: Ship, one: Occurrence, start: float, end: float, chance: random.Random) -> Iterator[NewEvent]:
        if ship.name != self.host:
            return
        yield line(ship, one.start, *self.begin, dict(self.attributes) if self.attributes else None)
        if self.says:
            for at in moments(max(start, one.start), min(end, one.end), 40.0, chance):
                yield line(ship, at, *self.says)

    def processes(self, ship: Ship, one: Occurrence, at: float) -> list[dict[str, Any]]:
        if ship.name != self.host or not self.process or not one.start <= at <= one.end:
            return []
        return [{"pid": 8800 + len(self.process), "parent": 1, "name": self.process, "user": "root", "cpu": 0.6,
                 "memory": 90 << 20, "started": one.start, "command": self.process, "unit": "cron.service"}]  # fmt: skip


def _package(name: str, before: str, after: str) -> dict[str, str]:
    return {"change.kind": "package", "change.what": name, "change.before": before, "change.after": after,
            "change.who": "rollout"}  # fmt: skip


def _cpu(by: float) -> Weigh:
    def does(weight: Weight, felt: F64) -> None:
        weight.cpu += by * felt

    return does


def _waiting(by: float) -> Weigh:
    def does(weight: Weight, felt: F64) -> None:
        weight.waiting += by * felt

    return does


def _warm(weight: Weight, felt: F64) -> None:
    weight.heat += 0.15 * felt


def _fewer(weight: Weight, felt: F64) -> None:
    weight.idle += 0.6 * felt


QUIRKS: dict[str, Quirk] = {
    "harmless-rollout": Quirk(
        "web-s1", ("notice", "change", "package timetable-web changed: 3.1.4-1 → 3.1.5-1"),
        attributes=_package("timetable-web", "3.1.4-1", "3.1.5-1"),
    ),
    "library-update": Quirk(
        "book-mq-n1", ("notice", "change", "package tzdata changed: 2024a-0 → 2024b-0"),
        attributes=_package("tzdata", "2024a-0", "2024b-0"),
    ),
    "nightly-index": Quirk("mail-h1", ("informational", "cron", "(root) CMD (mail-index --all)"), (10, 25), does=_cpu(0.3),
                           process="mail-index"),
    "log-rotation": Quirk("book-app-n1", ("informational", "systemd", "Started logrotate.service"), (3, 5), does=_waiting(0.05)),
    "restart-elsewhere": Quirk("disp-s1", ("notice", "systemd", "display.service restarted"), (3, 4), does=_fewer),
    "noisy-probe": Quirk("dns-h1", ("warning", "probe", "one answer of three was late"), says=("warning", "probe", "one answer of three was late")),
    "busier-desk": Quirk("tick-h1", ("informational", "TicketDesk", "counter 4 opened"), (30, 60), does=_cpu(0.1)),
    "warm-room": Quirk("hv-h1", ("informational", "ipmi", "inlet 26 °C"), (20, 40), does=_warm),
    "chatty-module": Quirk("gate-s1", ("notice", "gate", "self test begun"), says=("notice", "gate", "self test: reader ok")),
    "clock-step": Quirk("gate-n3", ("notice", "chronyd", "System clock was stepped by 0.412 seconds")),
    "copied-files": Quirk("hv-n1", ("informational", "sshd", "sftp session opened for ops"), (5, 10), does=_waiting(0.03)),
    "scan": Quirk("web-n2", ("notice", "web", "client 198.51.100.7 asked for 40 pages that are not there"), (2, 4)),
    "cold-cache": Quirk("book-cache-n1", ("notice", "cache", "flushed by ops, 0 keys left"), (4, 8), does=_cpu(0.08)),
}  # fmt: skip
"""By name."""


def tale_of(one: Occurrence) -> Tale:
    """What happens, or only looks like it."""
    return TALES.get(one.story) or QUIRKS[one.story]
