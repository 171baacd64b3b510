"""Which forwards there are, and each at work."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.events import Event
from balise.api.forwards import Forward, ForwardBody, OtlpDestination
from balise.api.spans import rfc3339
from balise.core import filters
from balise.core.filters import Filter
from balise.server.asking import read_filter
from balise.server.errors import Refused, unknown
from balise.server.filters.book import FilterBook
from balise.server.forwards.destination import Destination
from balise.server.forwards.lines import Lines
from balise.server.forwards.otlp import LINES, POINTS, ToOtlp
from balise.server.forwards.points import Point, Points
from balise.server.forwards.source import Places
from balise.server.forwards.syslog import ToSyslog
from balise.server.forwards.work import Forwarding
from balise.server.hosts.directory import Directory
from balise.server.people.access import Principal, audit
from balise.server.remote.credentials import CredentialBook
from balise.store.events.forwarded import Written
from balise.store.events.store import EventStore
from balise.store.series.forwarded import Arrived
from balise.store.series.store import SeriesStore
from balise.store.state import tables
from balise.store.state.store import StateStore

MOST_FORWARDS = 20


class ForwardBook:
    """All forwards. What is to be sent is read from events and points as they are kept: no other buffer can be lost."""

    def __init__(
        self,
        *,
        state: StateStore,
        events: EventStore,
        series: SeriesStore,
        directory: Directory,
        filters: FilterBook,
        credentials: CredentialBook,
    ) -> None:
        self._state = state
        self._written = Written(events)
        self._arrived = Arrived(series)
        self._catalogue = series.catalogue
        self._directory = directory
        self._filters = filters
        self._credentials = credentials
        self._lock = threading.Lock()
        self._running: dict[str, Forwarding[Any]] = {}

    def start(self) -> None:
        with self._lock:
            for row in self._rows():
                self._begin(row.name, ForwardBody.model_validate(row.document), _places(row.places))

    def stop(self) -> None:
        with self._lock:
            for forwarding in self._running.values():
                forwarding.stop()
            self._running.clear()

    def written(self, *_told: Sequence[Any] | int) -> None:
        """There are new events: who waits for them goes on. Points gather until they are looked for."""
        for forwarding in list(self._running.values()):
            forwarding.wake()

    def _begin(self, name: str, body: ForwardBody, places: Places) -> None:
        begun = self._of_points if body.what == "points" else self._of_lines
        forwarding: Forwarding[Any] = begun(name, body, places)
        self._running[name] = forwarding
        forwarding.worker.start()

    def _of_lines(self, name: str, body: ForwardBody, places: Places) -> Forwarding[Event]:
        to: Destination[Event] = (
            ToOtlp(body.to, LINES, self._credentials.secret)
            if isinstance(body.to, OtlpDestination)
            else ToSyslog(body.to)
        )
        return Forwarding(name, self._lines(body), to, places, keep=self._keep_places)

    def _of_points(self, name: str, body: ForwardBody, places: Places) -> Forwarding[Point]:
        assert isinstance(body.to, OtlpDestination)
        to = ToOtlp(body.to, POINTS, self._credentials.secret)
        return Forwarding(name, self._points(body), to, places, keep=self._keep_places)

    def _lines(self, body: ForwardBody) -> Lines:
        return Lines(self._written, lambda: self._where(body))

    def _points(self, body: ForwardBody) -> Points:
        return Points(
            self._arrived, self._catalogue, self._directory, names=body.metrics, where=lambda: self._where(body)
        )

    def _where(self, body: ForwardBody) -> Filter | None:
        """The filter as it is now: one that has a name may have changed."""
        text = self._filters.text(body.where, body.filter)
        return filters.parse(text) if text else None

    def _keep_places(self, name: str, places: Places) -> None:
        held = {str(day): list(place) for day, place in places.items()}

        def write(session: Session) -> None:
            row = session.get(tables.Forward, name)
            if row is not None:
                row.places = held

        self._state.write(write)

    # --- which there are

    def _rows(self) -> list[tables.Forward]:
        return self._state.read(lambda s: list(s.scalars(select(tables.Forward).order_by(tables.Forward.name))))

    def all(self) -> list[Forward]:
        return [self._answer(row) for row in self._rows()]

    def get(self, name: str) -> Forward:
        row = self._state.read(lambda s: s.get(tables.Forward, name))
        if row is None:
            raise unknown("forward", name)
        return self._answer(row)

    def put(self, name: str, body: ForwardBody, who: Principal) -> Forward:
        """Makes or changes a forward. A new one sends what comes from now on; one that is changed goes on.

        Raises:
            Refused: 422 naming the field that cannot be used, 403 for a credential of others, 409 when there are too
                many.
        """
        read_filter(self._filters.text(body.where, body.filter), "where")
        if isinstance(body.to, OtlpDestination) and body.to.credential is not None:
            self._credentials.usable(body.to.credential, who, None)
        with self._lock:
            before = self._state.read(lambda s: s.get(tables.Forward, name))
            if before is None and len(self._rows()) >= MOST_FORWARDS:
                raise Refused(409, f"There are {MOST_FORWARDS} forwards already: delete some first.")
            running = self._running.pop(name, None)
            if running is not None:
                running.stop()
            document = body.model_dump()
            source = self._points(body) if body.what == "points" else self._lines(body)
            begin = {str(day): list(place) for day, place in source.ends().items()}

            def write(session: Session) -> tables.Forward:
                row = session.get(tables.Forward, name)
                if row is None:
                    row = tables.Forward(name=name, places=begin)
                    session.add(row)
                elif row.document.get("what", "lines") != body.what:
                    row.places = begin
                row.document = document
                row.credential = body.to.credential if isinstance(body.to, OtlpDestination) else None
                audit(session, who.name, "forward.put", name, protocol=body.to.protocol)
                return row

            row = self._state.write(write)
            self._begin(name, body, _places(row.places))
        return self.get(name)

    def delete(self, name: str, who: str) -> None:
        """Sends nothing on any more."""
        with self._lock:

            def write(session: Session) -> None:
                row = session.get(tables.Forward, name)
                if row is None:
                    raise unknown("forward", name)
                session.delete(row)
                audit(session, who, "forward.delete", name)

            self._state.write(write)
            running = self._running.pop(name, None)
            if running is not None:
                running.stop()

    def _answer(self, row: tables.Forward) -> Forward:
        running = self._running.get(row.name)
        waiting = running.waiting() if running else 0
        problem = running.problem if running else None
        return Forward(
            **ForwardBody.model_validate(row.document).model_dump(),
            name=row.name,
            state="failing" if problem else "sending" if waiting else "waiting",
            waiting=waiting,
            sent=running.sent if running else 0,
            problem=problem,
            last_sent_at=rfc3339(running.last_sent_at) if running and running.last_sent_at else None,
        )

    def warnings(self, now: float) -> list[str]:
        """What cannot be sent on."""
        found = [f"the forward {f.name}: {f.problem}" for f in list(self._running.values()) if f.problem]
        return found + [said for f in list(self._running.values()) for said in f.worker.failures.warnings(now)]


def _places(held: dict[str, list[int]]) -> Places:
    return {int(day): (place[0], place[1]) for day, place in held.items()}
