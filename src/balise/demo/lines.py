"""Making lines: of a host, at a moment, filled with what varies."""

from __future__ import annotations

import json
import random
from collections.abc import Iterator
from typing import Any

from balise.api.events import SEVERITIES, Severity
from balise.core.events.new_event import NewEvent
from balise.core.moments import nanos
from balise.demo.fleet import Ship


def line(
    ship: Ship, at: float, severity: Severity, source: str, body: str, attributes: dict[str, Any] | None = None
) -> NewEvent:
    """One line of a host."""
    if source == "postgresql":
        attributes = {"service.name": "booking", **(attributes or {})}
    packed = json.dumps(attributes, ensure_ascii=False, separators=(",", ":")) if attributes else None
    return NewEvent(nanos(at), ship.name, SEVERITIES.index(severity), source, body, packed)


def moments(start: float, end: float, every: float, chance: random.Random) -> Iterator[float]:
    """Moments in [start, end), `every` seconds apart on the average."""
    at = start + chance.uniform(0, every)
    while at < end:
        yield at
        at += chance.expovariate(1 / every)


def fill(text: str, chance: random.Random) -> str:
    """`fill("ticket {n}", …) == "ticket 48213"`: numbers, addresses and ports by chance."""
    return text.format(
        n=chance.randrange(1000, 99_999),
        p=chance.randrange(1, 9),
        ms=chance.randrange(8, 320),
        port=chance.randrange(30_000, 60_000),
        ip=f"192.0.2.{chance.randrange(2, 250)}",
    )


def requested(text: str) -> dict[str, Any] | None:
    """What the parser of an access log finds in a line; None for a line that tells of no request."""
    client, *rest = text.split(" ")
    if len(rest) != 4 or rest[0] not in ("GET", "POST"):
        return None
    method, path, status, took = rest
    return {
        "client.address": client,
        "http.request.method": method,
        "url.path": path,
        "http.response.status_code": int(status),
        "http.server.duration": float(took),
    }
