"""What every story is: where it weighs, what is said of it, and who is seen at it."""

from __future__ import annotations

import random
from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from balise.core.events.new_event import NewEvent
from balise.demo.fleet import Ship
from balise.demo.stories import Occurrence
from balise.demo.weight import Weight

F64 = NDArray[np.float64]


class Tale:
    """One story. Everything is a pure function of when it happens, so that the past and the present are of one piece."""

    name: str
    minutes: tuple[int, int] = (25, 45)
    """How long it lasts, at the least and at the most."""
    seen: Mapping[str, str]
    """Where people notice it: a host or an application, never the cause itself."""

    def weigh(self, ship: Ship, one: Occurrence, times: F64, load: F64, weight: Weight) -> None:
        """Adds what it does to a host; `load` is how busy the ferries are, 0 to 1."""

    def lines(self, ship: Ship, one: Occurrence, start: float, end: float, chance: random.Random) -> Iterator[NewEvent]:
        """What a host says of it in about [start, end)."""
        return iter(())

    def processes(self, ship: Ship, one: Occurrence, at: float) -> list[dict[str, Any]]:
        """Processes that run because of it: `pid`, `name`, `user`, `cpu` in cores, `memory`, `started`, `command`."""
        return []

    def sessions(self, ship: Ship, one: Occurrence, at: float) -> list[dict[str, Any]]:
        """Sessions of the host's database that are there because of it."""
        return []
