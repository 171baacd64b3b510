"""Background work, run one way everywhere: what fails is counted, told and tried again, and never ends the work.

`Worker` has a thread and calls one step again and again.
"""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass

log = logging.getLogger(__name__)
TOLD_FOR = 600.0
"""Seconds for which a failure is told after the last one."""
LONGEST_PAUSE = 30.0


@dataclass
class Failures:
    """How often some work failed, when last (unix seconds), in what words, and how often in a row."""

    name: str
    count: int = 0
    in_a_row: int = 0
    last_at: float = 0.0
    last: str = ""

    def note(self, error: BaseException, now: float) -> None:
        self.count += 1
        self.in_a_row += 1
        self.last_at = now
        self.last = f"{type(error).__name__}: {error}"[:300]

    def passed(self) -> None:
        self.in_a_row = 0

    def warning(self, now: float) -> str | None:
        """What people have to know, while it goes on and for a while afterwards."""
        if not self.count or (not self.in_a_row and now - self.last_at > TOLD_FOR):
            return None
        often = "once" if self.count == 1 else f"{self.count} times"
        state = "fails" if self.in_a_row else "works again"
        return f"the work {self.name!r} failed {often} and {state}; last: {self.last}"

    def warnings(self, now: float) -> list[str]:
        """`warning`, as a list."""
        said = self.warning(now)
        return [said] if said else []

    def pause(self, ordinary: float) -> float:
        """How long to wait before the next try: longer, the more tries failed in a row."""
        if not self.in_a_row:
            return ordinary
        return max(ordinary, min(LONGEST_PAUSE, 0.5 * 2.0 ** min(self.in_a_row - 1, 6)))


@dataclass(frozen=True)
class Pause:
    """What a step answers to have the next one at another time than usual."""

    seconds: float


class Worker:
    """Calls `step` on a thread of its own, `pause` seconds apart or as its `Pause` says, until stopped."""

    def __init__(self, name: str, step: Callable[[], object], pause: float) -> None:
        self.name = name
        self._step = step
        self._pause = pause
        self._stop = threading.Event()
        self.failures = Failures(name)
        self._thread: threading.Thread | None = None

    def start(self) -> None:
        """Begins, or begins again after the thread has ended."""
        if self._thread is None or not self._thread.is_alive():
            self._thread = threading.Thread(target=self.run, name=self.name, daemon=True)
            self._thread.start()

    def run(self) -> None:
        while not self._stop.is_set():
            began = time.monotonic()
            wanted = self.once()
            pause = self.failures.pause(self._pause if wanted is None else wanted)
            self._stop.wait(max(0.0, pause - (time.monotonic() - began)))

    def once(self) -> float | None:
        """One step; answers the pause it wants, if any."""
        try:
            wanted = self._step()
        except BaseException as error:
            self.failures.note(error, time.time())
            log.exception("worker=%s failures=%d", self.name, self.failures.count)
            return None
        self.failures.passed()
        return wanted.seconds if isinstance(wanted, Pause) else None

    def stop(self) -> None:
        self._stop.set()

    def join(self, longest: float = 20.0) -> None:
        if self._thread is not None:
            self._thread.join(longest)
