"""Silence of hosts and the error of their clocks, as series of the console's own, so that rules can watch them."""

from __future__ import annotations

import time
from collections.abc import Callable

from balise.api.hosts import NOBODYS
from balise.server.hosts.clocks import Clocks
from balise.server.hosts.directory import AGENT_INTERVAL, Directory, Known
from balise.store.series.gauges import Gauge, keep_gauges
from balise.store.series.store import SeriesStore

METRICS = {
    "balise.host.silence": (
        "s",
        "How long nothing has been heard from a host that is collected from, less what its turns are longer than 15 s",
    ),
    "balise.host.clock.error": ("s", "How far a host's clock is from the console's"),
}
"""Unit and meaning of each."""
FIND_AGAIN = 30.0
"""Seconds after a start in which agents find their console again."""


class Silence:
    """Measured every few seconds for each host that is collected from."""

    def __init__(
        self,
        *,
        series: SeriesStore,
        directory: Directory,
        clocks: Clocks,
        planned: Callable[[Known], float | None],
        clock: Callable[[], float] = time.time,
    ) -> None:
        """`planned` tells how often plans say that a host is read, seconds; None where none does."""
        self._series = series
        self._directory = directory
        self._clocks = clocks
        self._planned = planned
        self._clock = clock
        self._began = clock()

    def note(self) -> None:
        now = self._clock()
        known = [k for k in self._directory.all() if k.mode not in NOBODYS and k.last_seen is not None]
        if now - self._began < FIND_AGAIN:
            return
        found = [Gauge(k.id, "balise.host.silence", (), self._silence(k, now)) for k in known]
        found += [
            Gauge(k.id, "balise.host.clock.error", (), abs(behind))
            for k in known
            if (behind := self._clocks.known(k.id)) is not None
        ]
        keep_gauges(self._series, METRICS, found, now)

    def _silence(self, known: Known, now: float) -> float:
        turn = max(known.interval, self._planned(known) or 0.0, AGENT_INTERVAL)
        return max(0.0, now - (known.last_seen or now) - (turn - AGENT_INTERVAL))
