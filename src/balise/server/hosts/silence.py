"""Silence of hosts and the error of their clocks, as series of the console's own, so that rules can watch them."""

from __future__ import annotations

import time
from collections.abc import Callable

from balise.api.hosts import NOBODYS
from balise.server.hosts.clocks import Clocks
from balise.server.hosts.directory import Directory
from balise.store.series.gauges import Gauge, keep_gauges
from balise.store.series.store import SeriesStore

METRICS = {
    "balise.host.silence": ("s", "How long nothing has been heard from a host that is collected from"),
    "balise.host.clock.error": ("s", "How far a host's clock is from the console's"),
}
"""Unit and meaning of each."""
FIND_AGAIN = 30.0
"""Seconds after a start in which agents find their console again."""


class Silence:
    """Measured every few seconds for each host that is collected from."""

    def __init__(
        self, *, series: SeriesStore, directory: Directory, clocks: Clocks, clock: Callable[[], float] = time.time
    ) -> None:
        self._series = series
        self._directory = directory
        self._clocks = clocks
        self._clock = clock
        self._began = clock()

    def note(self) -> None:
        now = self._clock()
        known = [k for k in self._directory.all() if k.mode not in NOBODYS and k.last_seen is not None]
        if now - self._began < FIND_AGAIN:
            return
        found = [Gauge(k.id, "balise.host.silence", (), max(0.0, now - (k.last_seen or now))) for k in known]
        found += [
            Gauge(k.id, "balise.host.clock.error", (), abs(behind))
            for k in known
            if (behind := self._clocks.known(k.id)) is not None
        ]
        keep_gauges(self._series, METRICS, found, now)
