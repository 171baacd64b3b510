"""Debug logging that was left on fills a volume; the service on it stops writing."""

from __future__ import annotations

import random
from collections.abc import Iterator

import numpy as np

from balise.core.events.new_event import NewEvent
from balise.demo.fleet import Ship
from balise.demo.lines import fill, line, moments
from balise.demo.stories import Occurrence
from balise.demo.tales.tale import F64, Tale
from balise.demo.weight import Weight

HOST, VOLUME = "gate-s3", "/var/log"
STOPS = 0.66
"""Share of the volume gained at which nothing more can be written."""


def gained(one: Occurrence, times: F64) -> F64:
    """How much the volume has gained, as a share of its size."""
    return 0.685 * np.minimum(1.0, one.progress(times) * 1.55) ** 1.1


class FullDeck(Tale):
    name = "full-deck"
    minutes = (205, 215)
    seen = {"application": "Boarding gates"}

    def weigh(self, ship: Ship, one: Occurrence, times: F64, load: F64, weight: Weight) -> None:
        if ship.name == HOST:
            held = gained(one, times)
            weight.full[VOLUME] = np.maximum(weight.full.get(VOLUME, np.zeros(len(times))), held)
            weight.cpu += 0.05 * (held > 0)
            stopped = np.clip((held - STOPS) / 0.01, 0, 1)
            weight.failing += 0.35 * stopped
            weight.idle += 0.7 * stopped

    def lines(self, ship: Ship, one: Occurrence, start: float, end: float, chance: random.Random) -> Iterator[NewEvent]:
        if ship.name != HOST:
            return
        text = "gate-controller configuration changed: log.level info → debug"
        yield line(ship, one.start - 20, "notice", "change", text,
                   {"change.kind": "configuration", "change.before": "log.level=info", "change.after": "log.level=debug",
                    "change.who": "rollout gate 4.2"})  # fmt: skip
        yield line(
            ship, one.end, "notice", "change", "/var/log/gate rotated and emptied by hand", {"change.who": "ops"}
        )
        for at in moments(max(start, one.start), min(end, one.end), 6.0, chance):
            yield line(ship, at, "debug", "gate", fill("reader {p}: frame {n} crc ok, {ms} us, raw={port}", chance))
            if float(gained(one, np.array([at]))[0]) > STOPS and chance.random() < 0.3:
                text = "cannot write /var/log/gate/app.log: No space left on device"
                yield line(ship, at + 0.2, "error", "gate", text, {"log.file.path": "/var/log/gate/app.log"})
