"""The history of hosts that were erased, which goes in the background."""

from __future__ import annotations

import logging

from balise.server.hosts.book import HostBook
from balise.server.hosts.directory import Directory
from balise.store.events.store import EventStore
from balise.store.series.store import SeriesStore

log = logging.getLogger(__name__)


class Eraser:
    """Removes it host after host; goes on after a restart."""

    def __init__(self, *, hosts: HostBook, directory: Directory, series: SeriesStore, events: EventStore) -> None:
        self._hosts = hosts
        self._directory = directory
        self._series = series
        self._events = events

    def erase_due(self) -> None:
        for number, name in self._hosts.to_erase():
            self._series.erase(number)
            if self._directory.find(name) is None:
                # Events are kept by name: when it was given to another host at once, they are the other's now.
                self._events.erase(name)
            self._hosts.erased(number)
            log.info("host=%s erased", name)
