"""What a delivery of points tells of its hosts."""

from __future__ import annotations

import time

import numpy as np
from numpy.typing import NDArray

from balise.core.moments import Nanos, seconds_of
from balise.server.hosts.clocks import Clocks
from balise.server.hosts.directory import Directory
from balise.server.receive.bodies import Outcome
from balise.store.series.catalogue import Catalogue
from balise.store.series.head import Batch
from balise.store.series.layouts import Layout

I64 = NDArray[np.int64]
MOST_LAYOUTS = 200_000
FIRST = bytes(8)
"""The place of the first host, wherever it is read."""


class Hearing:
    """Notes of the hosts in a delivery that they live, how their clocks go, and that nothing of theirs is taken."""

    def __init__(self, *, catalogue: Catalogue, directory: Directory, clocks: Clocks) -> None:
        self._catalogue = catalogue
        self._directory = directory
        self._clocks = clocks
        self._hosts_of: dict[int, tuple[I64, I64]] = {}

    def note_refused(self, layout: Layout, batch: Batch | None, outcome: Outcome) -> None:
        """Hosts of which nothing was taken say so, until something is."""
        if batch is None or batch.layout is not layout:
            taken = set(self.hosts_in(batch.layout)[0].tolist()) if batch is not None else set()
            for host in set(self.hosts_in(layout)[0].tolist()) - taken:
                self._directory.refused(host, f"nothing it sends is taken: {outcome.why}")

    def note_alive(self, batch: Batch) -> None:
        now = time.time()
        for host, newest in self._newest_of_hosts(batch.layout, batch.times):
            self._directory.heard(host, seconds_of(newest), now)

    def note_clocks(self, layout: Layout, times: I64, arrived: Nanos | None, behind: float | None) -> None:
        """Measures the clock of each host, also by points that will not be taken."""
        for host, newest in self._newest_of_hosts(layout, times):
            if behind is not None:
                self._clocks.told(host, behind)
            elif newest:
                self._clocks.aged(host, seconds_of(newest), seconds_of(arrived) if arrived else time.time())

    def _newest_of_hosts(self, layout: Layout, times: I64) -> list[tuple[int, int]]:
        """The hosts of a layout, each with the newest of its times, nanoseconds."""
        hosts, index = self.hosts_in(layout)
        if len(times) == 1 or len(hosts) == 1:
            newest_of_all = int(times[0]) if len(times) == 1 else int(times.max())
            return [(host, newest_of_all) for host in hosts.tolist()]
        newest = np.zeros(len(hosts), np.int64)
        np.maximum.at(newest, index, times)
        return list(zip(hosts.tolist(), newest.tolist(), strict=True))

    def learn(self, layout: Layout, host: int) -> None:
        """All series of a layout are of one host."""
        self._keep(layout, (np.array([host]), _first_of_all(len(layout.series))))

    def hosts_in(self, layout: Layout) -> tuple[I64, I64]:
        """The hosts of a layout, and of each of its series which of those."""
        found = self._hosts_of.get(layout.id)
        if found is None:
            hosts = self._catalogue.series.hosts_of(layout.series)
            alone = len(hosts) > 0 and bool((hosts == hosts[0]).all())
            one = (hosts[:1].copy(), _first_of_all(len(hosts)))
            found = self._keep(layout, one if alone else np.unique(hosts, return_inverse=True))
        return found

    def _keep(self, layout: Layout, found: tuple[I64, I64]) -> tuple[I64, I64]:
        if len(self._hosts_of) > MOST_LAYOUTS:
            self._hosts_of.clear()
        self._hosts_of[layout.id] = found
        return found


def _first_of_all(series: int) -> I64:
    """Of each of so many series, that it is of the first host: nothing is kept of each, as nearly all layouts are of
    one host."""
    return np.ndarray((series,), np.int64, FIRST, strides=(0,))
