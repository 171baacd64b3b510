"""What began around a stretch: changes, maintenance, sessions, processes, silence."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from datetime import datetime

from balise.core.filters import parse
from balise.core.moments import NS, nanos
from balise.core.trail import processes, sessions
from balise.core.trail.things import Happening, Thing
from balise.server.events.evidence import session_rows
from balise.server.hosts.book import HostBook
from balise.server.hosts.directory import Known
from balise.server.maintenance.book import MaintenanceBook
from balise.store.events.day_search import DAY, Search
from balise.store.events.store import EventStore

MOST_CHANGES, MOST_LOOKS = 300, 60
MOST_LOOKED_AT = 60
"""Hosts whose processes and sessions are looked at: the nearest of those that departed."""
DAY_SECONDS = DAY / NS


class Happened:
    """Reads the events, the snapshots that agents kept, and what is kept of hosts and maintenance."""

    def __init__(self, *, events: EventStore, hosts: HostBook, maintenance: MaintenanceBook) -> None:
        self._events = events
        self._hosts = hosts
        self._maintenance = maintenance

    def of(
        self, hosts: Sequence[Known], departed: Collection[str], start: float, end: float, before: float
    ) -> list[Happening]:
        """What began on some hosts from `before` seconds before `start` until `end`, unix seconds; of those that
        `departed` what their processes and sessions did."""
        early = start - before / 2
        found = [*self._changes({known.name for known in hosts}, early, end), *self._windows(hosts, early, end)]
        for known in [one for one in hosts if one.name in departed][:MOST_LOOKED_AT]:
            found += self._sessions(known.name, start - before, start, end)
            found += self._processes(known.name, start - before, start, end)
        return [*found, *self._silence(hosts, early, end)]

    def _changes(self, names: Collection[str], start: float, end: float) -> Iterator[Happening]:
        search = Search(nanos(start), nanos(end), where=parse('source eq "change"'))
        for one in self._events.find(search, MOST_CHANGES)[0]:
            if one.host in names:
                attributes = one.attributes or {}
                name = str(attributes.get("change.what") or attributes.get("job") or one.body.partition(":")[0])[:80]
                thing = Thing("change", name, one.host)
                yield Happening("change", thing, _unix(one.time), one.body[:200], uncertainty=5.0)

    def _windows(self, hosts: Sequence[Known], start: float, end: float) -> Iterator[Happening]:
        """Maintenance that began: somebody was at work on what it names."""
        for name, body, times in self._maintenance.times_of(start, end):
            for known in hosts:
                if known.name in body.hosts:
                    for time in times:
                        if start <= time.start < end:
                            thing = Thing("change", f"maintenance {name}", known.name)
                            yield Happening("change", thing, time.start, "maintenance began", uncertainty=60.0)

    def _sessions(self, host: str, start: float, stretch: float, end: float) -> list[Happening]:
        looks = self._looks(host, "sessions", start, end)
        return [*sessions.holders(host, looks, start), *sessions.grown(host, looks, stretch)]

    def _processes(self, host: str, start: float, stretch: float, end: float) -> list[Happening]:
        looks = self._looks(host, "processes", start, end)
        found = processes.grown(host, looks, start=start, stretch=stretch, day_before=())
        if found:
            day_before = self._looks(host, "processes", stretch - DAY_SECONDS, end - DAY_SECONDS)
            found = processes.grown(host, looks, start=start, stretch=stretch, day_before=day_before)
        return found

    def _looks(self, host: str, kind: str, start: float, end: float) -> list[processes.Look]:
        looks = self._events.snapshots_over(host, kind, nanos(start), nanos(end), MOST_LOOKS)
        return [(moment / NS, session_rows(content)) for moment, content in looks]

    def _silence(self, hosts: Sequence[Known], start: float, end: float) -> Iterator[Happening]:
        """Hosts that were there and are not heard; where most fall silent, nobody heard them: that says nothing."""
        silent = self._hosts.fell_silent(start, end)
        mine = [(known, silent[known.id]) for known in hosts if known.id in silent]
        if len(mine) > 2 and len(mine) > len(hosts) / 2:
            return
        for known, since in mine:
            yield Happening(
                "state", Thing("link", "network", known.name), since - known.interval * 2,
                "nothing is heard of it, its neighbours are there", uncertainty=known.interval * 2, deviation=20.0,
                share=1.0,
            )  # fmt: skip


def _unix(text: str) -> float:
    return datetime.fromisoformat(text).timestamp()
