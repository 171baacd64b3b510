"""What was dropped of senders that say too much, as series that rules can watch."""

from __future__ import annotations

import time
from collections.abc import Callable

from balise.server.hosts.directory import Directory
from balise.server.receivers.book import ReceiverBook
from balise.server.receivers.senders import SenderBook
from balise.store.series.gauges import Gauge, keep_gauges
from balise.store.series.store import SeriesStore

METRICS = {"balise.receiver.dropped": ("{line}/min", "Lines of a host that a receiver dropped, a minute")}
OWN_HOST = "console"
"""The host that what is dropped of senders is told of that are no hosts."""
MOST_SENDERS = 1000


class Drops:
    """Looked at every half a minute. Of a sender of whom nothing was ever dropped nothing is kept."""

    def __init__(
        self,
        *,
        series: SeriesStore,
        directory: Directory,
        senders: SenderBook,
        receivers: ReceiverBook,
        clock: Callable[[], float] = time.time,
    ) -> None:
        self._series = series
        self._directory = directory
        self._senders = senders
        self._receivers = receivers
        self._clock = clock
        self._before: dict[tuple[str, str], int] = {}
        self._at = clock()

    def note(self) -> None:
        now = self._clock()
        minutes, self._at = max(now - self._at, 1.0) / 60, now
        dropped = {
            (receiver.name, sender.address): sender.dropped
            for receiver in self._receivers.running()
            for sender in receiver.senders
            if sender.dropped
        }
        names = {(heard.receiver, heard.address): heard.host for heard in self._senders.heard()}
        found = []
        for key, count in sorted(dropped.items(), key=lambda one: -one[1])[:MOST_SENDERS]:
            more = count - self._before.get(key, 0)
            known = self._directory.find(names.get(key, ""))
            host = known.id if known is not None else self._directory.ensure(OWN_HOST).id
            attributes = (("receiver", key[0]), ("sender", key[1]))
            found.append(Gauge(host, "balise.receiver.dropped", attributes, max(0, more) / minutes))
        self._before = dropped
        keep_gauges(self._series, METRICS, found, now)
