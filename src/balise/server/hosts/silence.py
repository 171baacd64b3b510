"""Silence of hosts and the error of their clocks, as series of the console's own, so that rules can watch them."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping

import numpy as np

from balise.api.hosts import NOBODYS
from balise.core.moments import nanos
from balise.server.hosts.clocks import Clocks
from balise.server.hosts.directory import Directory
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
        silence = {k.id: max(0.0, now - (k.last_seen or now)) for k in known}
        clocks = {k.id: abs(behind) for k in known if (behind := self._clocks.known(k.id)) is not None}
        self._keep("balise.host.silence", silence, now)
        self._keep("balise.host.clock.error", clocks, now)

    def _keep(self, name: str, by_host: Mapping[int, float], now: float) -> None:
        """Keeps a number for each host, in seconds."""
        if not by_host:
            return
        catalogue = self._series.catalogue
        unit, about = METRICS[name]
        metric = catalogue.metric(name, unit, "gauge", about)
        ids = np.array([catalogue.series_id(host, metric, (), "", "gauge") for host in by_host])
        times = np.full(len(ids), nanos(now), np.int64)
        values = np.round(np.array(list(by_host.values())), 1)
        self._series.accept_now(self._series.batch(catalogue.layouts.of(ids), times, values))
