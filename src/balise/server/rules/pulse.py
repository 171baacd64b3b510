"""The pulse of the service: what is looked at every second."""

from __future__ import annotations

import time
from collections.abc import Callable, Collection

from balise.server.alerts.book import AlertBook
from balise.server.hosts.directory import Directory
from balise.server.rules.watch import Watch


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

    def tick(self, now: float | None = None) -> None:
        """One look at everything. `now` is unix seconds, this moment unless given."""
        at = time.time() if now is None else now
        self._watch.tick(at)
        self._directory.judge(self._alerts.open.severities(), at, self._paused())
