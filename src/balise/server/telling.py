"""What happens, told to whoever has a page open."""

from __future__ import annotations

from collections.abc import Sequence

from balise.core.events.new_event import NewEvent
from balise.server.alerts.book import AlertChanged
from balise.server.hosts.directory import Known
from balise.server.live import Hub
from balise.server.probes.results import ProbeJudged
from balise.store.events.store import read_event


class Telling:
    """Puts what parts tell into the words of the live streams."""

    def __init__(self, hub: Hub) -> None:
        self._hub = hub

    def alert(self, changed: AlertChanged) -> None:
        self._hub.tell("alert", {"what": changed.what, "alert": changed.alert.model_dump(mode="json")})

    def incident(self, number: int) -> None:
        self._hub.tell("incident", {"id": number})

    def state(self, host: Known) -> None:
        self._hub.tell("state", {"host": host.name, "state": host.state, "at": host.state_since})

    def probe(self, judged: ProbeJudged) -> None:
        self._hub.tell("probe", {"name": judged.name, "state": judged.state})

    def enrolment(self, number: int) -> None:
        self._hub.tell("enrolment", {"id": number})

    def events(self, day: int, ids: Sequence[int], events: Sequence[NewEvent], patterns: Sequence[int]) -> None:
        """Events that are written; `day` is the file they are in."""
        if not self._hub.listeners:
            return
        for number, e, pattern in zip(ids, events, patterns, strict=True):
            row = (number, e.time, e.host, e.severity, e.source, e.body, e.attributes, pattern)
            self._hub.tell("event", read_event(day, row).model_dump(mode="json"))
