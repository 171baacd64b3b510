"""Making many probes again and again, each at its own interval, on threads that mostly wait."""

from __future__ import annotations

import heapq
import itertools
import logging
import threading
import time
import zlib
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor

from balise.api.probes import ProbeResult, ProbeTarget
from balise.api.spans import seconds
from balise.collect.probes.run import make
from balise.collect.work import Failures, Worker

log = logging.getLogger(__name__)
AT_ONCE = 64
MOST_WAITING = 2000
"""Probes that may be due and not begun; beyond it a round is left out, and counted."""


class Probing:
    """Makes the probes it is given. `heard` is called with each result, on the thread that made it."""

    def __init__(self, heard: Callable[[ProbeTarget, ProbeResult], None]) -> None:
        self._heard = heard
        self._probes: dict[str, ProbeTarget] = {}
        self._due: list[tuple[float, int, str]] = []
        self._order = itertools.count()
        self._newest: dict[str, int] = {}
        self._lock = threading.Condition()
        self._busy: set[str] = set()
        self._pool = ThreadPoolExecutor(AT_ONCE, thread_name_prefix="probe")
        self._worker = Worker("probing", self._step, 0.0)
        self._stopped = False
        self.left_out = 0

    def start(self) -> None:
        self._worker.start()

    @property
    def failures(self) -> Failures:
        return self._worker.failures

    def set_probes(self, probes: Iterable[ProbeTarget]) -> None:
        """From now on makes these. One that has not changed keeps its rhythm; a changed one is made at once."""
        wanted = {probe.name: probe for probe in probes}
        with self._lock:
            fresh = [name for name, probe in wanted.items() if self._probes.get(name) != probe]
            self._probes = wanted
            self._newest = {name: number for name, number in self._newest.items() if name in wanted}
            for name in fresh:
                # After a start many come at once: those are spread over their interval, by name.
                every = seconds(wanted[name].body.every)
                wait = 0.0 if len(fresh) <= AT_ONCE else every * (zlib.crc32(name.encode()) % 1000) / 1000
                self._push(name, time.monotonic() + wait)
            self._lock.notify()

    def _push(self, name: str, at: float) -> None:
        """The newest entry of a name counts; those before it are passed over."""
        number = next(self._order)
        self._newest[name] = number
        heapq.heappush(self._due, (at, number, name))

    def _step(self) -> None:
        """Waits for the next probe that is due, at most some seconds, and has it made."""
        with self._lock:
            wait = min(5.0, self._due[0][0] - time.monotonic()) if self._due else 5.0
            if wait > 0 and not self._stopped:
                self._lock.wait(max(0.01, wait))
            if self._stopped or not self._due or self._due[0][0] > time.monotonic():
                return
            at, number, name = heapq.heappop(self._due)
            probe = self._probes.get(name)
            if probe is None or self._newest.get(name) != number:
                return
            every = seconds(probe.body.every)
            self._push(name, max(at + every, time.monotonic()))
            if name in self._busy or len(self._busy) >= MOST_WAITING:
                self.left_out += 1
                return
            self._busy.add(name)
        try:
            self._pool.submit(self._one, probe)
        except RuntimeError:
            # Being stopped: no thread is to be had any more.
            with self._lock:
                self._busy.discard(name)

    def _one(self, probe: ProbeTarget) -> None:
        try:
            self._heard(probe, make(probe))
        except Exception:
            log.exception("probe=%s", probe.name)
        finally:
            with self._lock:
                self._busy.discard(probe.name)

    def stop(self) -> None:
        with self._lock:
            self._stopped = True
            self._worker.stop()
            self._lock.notify()
        self._pool.shutdown(wait=False, cancel_futures=True)
