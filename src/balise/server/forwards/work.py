"""Sending on what one forward reads, at least once each, from where it was left."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from typing import Generic, TypeVar

from balise.collect.work import Pause, Worker
from balise.server.forwards.destination import Destination, Undelivered
from balise.server.forwards.source import Places, Source

FIRST_WAIT, LONGEST_WAIT, IDLE = 1.0, 60.0, 0.5
GATHER = 1.0
"""Seconds in which others gather once all that there was is sent: each time costs a request, and a note of how far."""
T = TypeVar("T")
Keep = Callable[[str, Places], None]
"""Keeps how far a forward was sent, by its name."""


class Forwarding(Generic[T]):
    """One forward at work, on a thread of its own: a slow other side delays nobody else."""

    def __init__(
        self,
        name: str,
        source: Source[T],
        to: Destination[T],
        places: Places,
        *,
        keep: Keep,
    ) -> None:
        self.name = name
        self._source = source
        self._keep = keep
        self._places: Places = dict(places)
        self._to = to
        self._wake = threading.Event()
        self._failures = 0
        self.problem: str | None = None
        self.sent = 0
        self.refused = 0
        self.last_sent_at: float | None = None
        self.worker = Worker(f"forward {name}", self.turn, IDLE)

    def waiting(self) -> int:
        return self._source.waiting(self._places)

    def wake(self) -> None:
        """There is something new."""
        self._wake.set()

    def turn(self) -> Pause:
        """Sends some; says when to go on."""
        found = self._source.step(self._places)
        if found is None:
            self._wake.wait(IDLE)
            self._wake.clear()
            return Pause(0.0)
        if found.items:
            try:
                refused = self._to.send(found.items)
            except Undelivered as problem:
                self.problem = str(problem)
                self._failures += 1
                return Pause(min(LONGEST_WAIT, FIRST_WAIT * 2.0 ** min(self._failures - 1, 6)))
            self.sent += len(found.items) - refused
            self.refused += refused
            self.last_sent_at = time.time()
            self.problem = f"{self.refused} were refused and left out" if self.refused else None
            self._failures = 0
        # What was sent and is not kept as sent is sent again.
        self._keep(self.name, found.places)
        self._places = found.places
        return Pause(0.0 if found.more else GATHER)

    def stop(self) -> None:
        self.worker.stop()
        self._wake.set()
        self.worker.join(5.0)
        self._to.close()
