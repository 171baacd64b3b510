"""The pulse of the service: what is looked at all the time."""

from __future__ import annotations

import time
from collections.abc import Callable, Collection

from balise.collect.work import Pause
from balise.server.alerts.book import AlertBook
from balise.server.hosts.directory import Directory
from balise.server.rules.watch import Watch

SHORTEST, LONGEST = 0.25, 1.0
"""Seconds between two looks: what is breached is known after half of them on average."""
PART = 10.0
"""Looks take no more than one in so many seconds, until they are a second apart."""


class Pulse:
    """Rules first, then what their alerts make of the states of hosts."""

    def __init__(
        self, *, watch: Watch, directory: Directory, alerts: AlertBook, paused: Callable[[], Collection[int]]
    ) -> None:
        """`paused` answers the hosts that are in maintenance."""
        self._watch = watch
        self._directory = directory
        self._alerts = alerts
        self._paused = paused
        self._ticked = -LONGEST

    def beat(self) -> Pause:
        """A tick where something arrived, and every second anyway; answers when to look again, so that ticks take no
        more than a part of the time."""
        began = time.perf_counter()
        if not self._watch.has_arrivals and began - self._ticked < LONGEST:
            return Pause(SHORTEST)
        self.tick()
        self._ticked = time.perf_counter()
        return Pause(min(max(SHORTEST, PART * (self._ticked - began)), LONGEST))

    def tick(self, now: float | None = None) -> None:
        """One look at everything. `now` is unix seconds, this moment unless given."""
        at = time.time() if now is None else now
        self._watch.tick(at)
        self._directory.judge(self._alerts.open.severities(), at, self._paused())
