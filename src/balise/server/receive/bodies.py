"""Bodies as they come in: what becomes of them, the room there is for them, and whose they are about."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import dataclass
from typing import TypeVar

from balise.core.series.wire import check_json
from balise.server.people.access import Principal
from balise.server.turns import Turns

T = TypeVar("T")
DAY = 86_400 * 1_000_000_000
AHEAD = 600 * 1_000_000_000
"""Nanoseconds that a time may lie in the future: beyond it a sender's clock is wrong."""
LIGHT = 16 << 10
"""Bytes of a body that is read in less time than it takes to hand it to another thread's turn."""
OF_THE_SENDER = ("host.", "os.", "telemetry.", "process.")
"""Beginnings of a resource's attributes that tell of its host and process, not its series apart."""


@dataclass(frozen=True)
class Outcome:
    """What became of a request: how many of its points or records were not taken, and why."""

    rejected: int = 0
    why: str = ""


@dataclass(frozen=True)
class Room:
    """Asked before a body is taken, and before a large one is read; each raises Busy when there is no room."""

    on_disk: Callable[[], None]
    in_memory: Callable[[], None]


class HeavyBodies:
    """Reads bodies that take long beside the loop, a few at once and one of each sender."""

    def __init__(self, room: Room) -> None:
        self._room = room
        self._turns = Turns(2, 1, waiting=400)

    async def work(self, principal: Principal, body: bytes, read: Callable[[], T], *, as_json: bool = False) -> T:
        """What `read` makes of a body.

        Raises:
            TooLarge: there is more JSON than is read at once.
            Refused: 429 or 503 when too much waits.
        """
        if as_json:
            check_json(body)
        if len(body) <= LIGHT and not as_json:
            return read()
        self._room.in_memory()
        async with self._turns.of(f"{principal.name} {principal.host}"):
            return await asyncio.to_thread(read)


def resource_host(attributes: dict[str, str]) -> str:
    """The host a resource stands for: its `host.name`, else its service's name."""
    return attributes.get("host.name") or attributes.get("service.name") or ""


def kept_of_resource(attributes: dict[str, str]) -> tuple[tuple[str, str], ...]:
    """What of a resource tells its series apart; facts of the host and of the process do not."""
    return tuple((k, v) for k, v in attributes.items() if not k.startswith(OF_THE_SENDER))
