"""Sending on the events of one forward, at least once each, from where it was left."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Mapping

from balise.api.forwards import ForwardBody, OtlpDestination
from balise.collect.work import Pause, Worker
from balise.core.filters import Filter
from balise.server.forwards.destination import Destination, Undelivered
from balise.server.forwards.otlp import ToOtlp
from balise.server.forwards.syslog import ToSyslog
from balise.server.remote.credentials import CredentialBook
from balise.store.events.forwarded import Written
from balise.store.events.store import read_event

AT_ONCE = 500
FIRST_WAIT, LONGEST_WAIT, IDLE = 1.0, 60.0, 0.5
Places = dict[int, tuple[int, int]]
Keep = Callable[[str, Places], None]
"""Keeps how far a forward was sent, by its name."""


class Forwarding:
    """One forward at work, on a thread of its own: a slow other side delays nobody else."""

    def __init__(
        self,
        name: str,
        body: ForwardBody,
        places: Mapping[int, tuple[int, int]],
        *,
        where: Callable[[], Filter | None],
        written: Written,
        credentials: CredentialBook,
        keep: Keep,
    ) -> None:
        self.name = name
        self._where = where
        self._written = written
        self._keep = keep
        self._places: Places = dict(places)
        self._to: Destination = (
            ToOtlp(body.to, credentials.secret) if isinstance(body.to, OtlpDestination) else ToSyslog(body.to)
        )
        self._wake = threading.Event()
        self._failures = 0
        self.problem: str | None = None
        self.sent = 0
        self.refused = 0
        self.last_sent_at: float | None = None
        self.worker = Worker(f"forward {name}", self.turn, IDLE)

    def waiting(self) -> int:
        return self._written.waiting(self._places)

    def wake(self) -> None:
        """There are new events."""
        self._wake.set()

    def turn(self) -> Pause:
        """Sends some; says when to go on."""
        found = self._written.step(self._places, self._where(), AT_ONCE)
        if found is None:
            self._wake.wait(IDLE)
            self._wake.clear()
            return Pause(0.0)
        rows, places = found
        if rows:
            try:
                refused = self._to.send([read_event(day, row) for day, row in rows])
            except Undelivered as problem:
                self.problem = str(problem)
                self._failures += 1
                return Pause(min(LONGEST_WAIT, FIRST_WAIT * 2.0 ** min(self._failures - 1, 6)))
            self.sent += len(rows) - refused
            self.refused += refused
            self.last_sent_at = time.time()
            self.problem = f"{self.refused} were refused and left out" if self.refused else None
            self._failures = 0
        # What was sent and is not kept as sent is sent again.
        self._keep(self.name, places)
        self._places = places
        return Pause(0.0)

    def stop(self) -> None:
        self.worker.stop()
        self._wake.set()
        self.worker.join(5.0)
        self._to.close()
