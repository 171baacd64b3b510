"""The work that goes on in the background."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator

from balise.collect.work import Failures, Worker

JOIN_SECONDS = 20.0


class Workers:
    """All workers of the service. One that dies comes back and says so."""

    def __init__(self) -> None:
        self._workers: list[Worker] = []
        self._turn = threading.Lock()
        self._stopping = False

    def add(self, name: str, step: Callable[[], object], every: float) -> None:
        """Has something done again and again, with so many seconds between; before `start`."""
        self._workers.append(Worker(name, step, every))

    def add_aside(self, name: str, step: Callable[[], object], every: float) -> None:
        """As `add`, for what nobody waits for and is soon done: of all such work one is done at a time, so that those
        for whom somebody waits do not compute beside many."""

        def in_turn() -> object:
            with self._turn:
                return None if self._stopping else step()

        self.add(name, in_turn, every)

    def start(self) -> None:
        for worker in self._workers:
            worker.start()

    def stop(self) -> None:
        """None of them begins anything new."""
        self._stopping = True
        for worker in self._workers:
            worker.stop()

    def join(self, within: float = JOIN_SECONDS) -> None:
        """Waits for what they are at, so many seconds in all: one that hangs does not keep the service from ending."""
        end = time.monotonic() + within
        for worker in self._workers:
            worker.join(max(0.0, end - time.monotonic()))

    def warnings(self, now: float) -> list[str]:
        return [said for failures in self.failures() if (said := failures.warning(now))]

    def failures(self) -> Iterator[Failures]:
        """How each of them fails, if it does."""
        return (worker.failures for worker in self._workers)
