"""Trails: asked for a place and a stretch of time, and made for incidents while they go on."""

from __future__ import annotations

import threading
import time
import zlib
from collections.abc import Callable, Collection, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime, tzinfo

from sqlalchemy import ColumnElement, func, or_, select
from sqlalchemy.orm import Session

from balise.api.spans import instant
from balise.api.trail import Departure, Trail, TrailQuery
from balise.core.trail.things import Node
from balise.core.trail.trail import trail_of
from balise.core.trail.words import SURE
from balise.server.errors import Refused, bad_field, unknown
from balise.server.trail.answers import AdviceOf, trail_answer
from balise.server.trail.causes import CauseBook
from balise.server.trail.edges import Edges
from balise.server.trail.gather import Gatherer
from balise.store.state.store import StateStore
from balise.store.state.tables import Alert, Incident, IncidentAlert, IncidentTrail

LEADS, AFTER, USUAL = (600.0, 7200.0, 28_800.0), 2400.0, 2400.0
"""Seconds that are looked at before something opened, farther back if it had departed by then, and after it; and of a
stretch when nothing is said."""
SHORTEST, LONGEST = 120.0, 2 * 86_400.0
FRESH = 20.0
"""Seconds for which the trail of an incident that goes on is good."""
OLD = 300.0
"""Seconds for which it is better than waiting: it is told, and made anew at once."""
LOOKS = (2.0, 60.0, 300.0, 900.0, AFTER)
"""Seconds after an incident opened at which its trail is made, whoever asks for it."""
SHARE, SETTLING = 0.1, 45.0
"""Of the time, how much may go into trails that nobody asked for; none of the first seconds."""
MOST_PLACES, MOST_FAILED = 200, 1000


@dataclass(frozen=True)
class _Asked:
    """Where something is felt and when; `about` are the hosts and metrics that people were called for."""

    felt: Collection[Node]
    start: float
    end: float
    called: float | None = None
    about: frozenset[tuple[str, str]] = frozenset()


@dataclass(frozen=True)
class _Called:
    """What people were called for: where, the hosts and metrics, and when, unix seconds."""

    felt: Collection[Node]
    about: frozenset[tuple[str, str]]
    at: float


class Trails:
    """One is made at a time, so that memory is bounded. `advice` says what a rule on a metric advises."""

    def __init__(
        self,
        *,
        state: StateStore,
        gatherer: Gatherer,
        edges: Edges,
        causes: CauseBook,
        advice: AdviceOf,
        zone: tzinfo,
        clock: Callable[[], float] = time.time,
    ) -> None:
        self._state = state
        self.gatherer = gatherer
        self._edges = edges
        self._causes = causes
        self._advice = advice
        self._zone = zone
        self._clock = clock
        self._lock = threading.Lock()
        self._counting = threading.Lock()
        self._asked_for = 0
        self._failed: set[int] = set()
        self._wanted: set[int] = set()
        self._rests_until = clock() + SETTLING

    def ask(self, query: TrailQuery) -> Trail:
        """The trail of a place. Raises Refused 404 for one that is not there, 422 for a span that cannot be."""
        asked = self._asked(query)
        with self._somebody_waits():
            if asked.called is not None and query.from_ is None and query.to is None:
                return self._followed(_Called(asked.felt, asked.about, asked.called))
            return self._made(asked)

    def of_incident(self, number: int) -> Trail:
        """The trail of an incident: as it was kept once the stretch around it is over, else as it is now.

        One that is a little old is told as it is, and made anew for those who ask again.

        Raises:
            Refused: 404 for an incident that is not there, 409 for one that has no alerts to follow.
        """
        row = self._state.read(lambda s: s.get(Incident, number))
        if row is None:
            raise unknown("incident", number)
        if row.of:
            about = "it is practice" if row.of == "drill" else f"it is about the {row.of}, whose records say why"
            raise Refused(409, f"Incident {number} has no trail: {about}.")
        kept, called = self._state.read(lambda s: (s.get(IncidentTrail, number), _called(s, row)))
        age = self._clock() - kept.at if kept is not None else OLD
        if kept is not None and (kept.at >= called.at + AFTER or (kept.at >= called.at and age < OLD)):
            found = Trail.model_validate_json(zlib.decompress(kept.answer))
            if FRESH <= age < OLD and row.state == "open" and row.joined_into is None:
                self._wanted.add(number)
        else:
            with self._somebody_waits():
                found = self._make(number, called)
        return found.model_copy(update={"cause": self._causes.of(number), "before": self._causes.before(number)})

    def look(self) -> None:
        """Makes the trail of one of the incidents that go on, if it is due and there is time for it."""
        now = self._clock()
        if self._asked_for:
            return
        due = self._waited_for()
        if due is None and now >= self._rests_until:
            due = self._state.read(lambda s: _due(s, now, self._failed))
        if due is None:
            return
        began = time.perf_counter()
        try:
            self._make(due.id, self._state.read(lambda s: _called(s, due)))
        except Exception:
            # The others go on; this one is tried again when the console is, or when somebody asks.
            self._failed = {*sorted(self._failed)[-MOST_FAILED:], due.id}
            raise
        finally:
            self._rests_until = now + (time.perf_counter() - began) * (1 / SHARE - 1)

    def _waited_for(self) -> Incident | None:
        """One of the incidents whose trail was told though it was old."""
        number = self._wanted.pop() if self._wanted else None
        return self._state.read(lambda s: s.get(Incident, number)) if number is not None else None

    @contextmanager
    def _somebody_waits(self) -> Iterator[None]:
        """Nothing is made meanwhile that nobody asked for."""
        with self._counting:
            self._asked_for += 1
        try:
            yield
        finally:
            with self._counting:
                self._asked_for -= 1

    def _make(self, number: int, called: _Called) -> Trail:
        """Makes the trail of an incident, and keeps it."""
        found = self._followed(called)
        kept = IncidentTrail(
            incident=number,
            at=self._clock(),
            suspect=found.suspects[0].title if found.suspects and found.sure >= SURE else "",
            sentence=found.sentence,
            sure=found.sure,
            answer=zlib.compress(found.model_dump_json(by_alias=True).encode()),
        )
        # It may have been forgotten meanwhile.
        self._state.write(lambda s: s.merge(kept) if s.get(Incident, number) is not None else None)
        return found

    def _followed(self, called: _Called) -> Trail:
        """The trail of what people were called for: from shortly before it, or from as far back as it takes until that
        had not departed yet, as with what fills up over hours."""
        first: Trail | None = None
        end = min(self._clock(), called.at + AFTER)
        for lead in LEADS:
            found = self._made(_Asked(called.felt, called.at - lead, end, called.at, called.about))
            mine = [one for one in found.departed if (one.host, one.metric) in called.about]
            if not called.about or any(_began(one, called.at) for one in mine):
                return found
            first = first or found
        return first or found

    def _made(self, asked: _Asked) -> Trail:
        with self._lock:
            began = time.perf_counter()
            gathered = self.gatherer.gather(
                asked.felt, asked.start, asked.end, leaning=self._causes.leaning(), called=asked.called,
                about=asked.about,
            )  # fmt: skip
            found = trail_of(gathered.case, self._said, gathered.signs)
            seconds = time.perf_counter() - began
        return trail_answer(found, gathered, now=self._clock(), seconds=seconds, advice=self._advice)

    def _said(self, at: float) -> str:
        return datetime.fromtimestamp(at, self._zone).strftime("%H:%M")

    # --- what is asked

    def _asked(self, query: TrailQuery) -> _Asked:
        now = self._clock()
        opened: float | None = None
        about: frozenset[tuple[str, str]] = frozenset()
        if query.alert is not None:
            felt, about, opened = self._state.read(lambda s: _of_alert(s, query.alert or 0))
        elif query.application is not None:
            felt = self._edges.felt(query.application)
            if not felt:
                raise unknown("application", query.application)
        else:
            felt = self._edges.places(query.host, query.service)
        end = instant(query.to, now) if query.to else min(now, opened + AFTER) if opened is not None else now
        start = instant(query.from_, now) if query.from_ else (opened - LEADS[0] if opened is not None else end - USUAL)
        if end > now + 1:
            raise bad_field("to", "it is still to come: say a time that has passed, or leave it out")
        if end - start < SHORTEST:
            raise bad_field("from", "the stretch is shorter than two minutes: begin earlier, before it was felt")
        if end - start > LONGEST:
            raise bad_field("from", "the stretch is longer than two days: begin shortly before it was felt")
        return _Asked(felt, start, min(end, now), opened, about)


def _began(one: Departure, opened: float) -> bool:
    """Whether it departed before people were called."""
    return instant(one.at, opened) <= opened + one.uncertainty_seconds


def _of_alert(session: Session, number: int) -> tuple[list[Node], frozenset[tuple[str, str]], float]:
    row = session.get(Alert, number)
    if row is None:
        raise unknown("alert", number)
    return [_node(row)], _about([row]), row.opened_at


def _called(session: Session, incident: Incident) -> _Called:
    """Where an incident's alerts are, and what they measure; of one that came again, those that are open now."""
    mine = select(IncidentAlert.alert).where(IncidentAlert.incident == incident.id)
    query = select(Alert).where(Alert.id.in_(mine)).order_by(Alert.level.desc(), Alert.id).limit(MOST_PLACES)
    rows = list(session.scalars(query))
    at = incident.opened_at
    if incident.reopened and (again := [row for row in rows if row.recovered_at is None]):
        rows, at = again, min(row.opened_at for row in again)
    return _Called(list(dict.fromkeys(_node(row) for row in rows)), _about(rows), at)


def _about(rows: Iterable[Alert]) -> frozenset[tuple[str, str]]:
    """The hosts and metrics of alerts; of what only counts lines there is none."""
    return frozenset((row.host_name, metric) for row in rows if (metric := row.measure.get("metric")))


def _node(row: Alert) -> Node:
    return row.host_name, str(row.attributes.get("service.name", ""))


def _due(session: Session, now: float, without: Collection[int]) -> Incident | None:
    """The worst of the open incidents whose next look is due, or that have an alert which their trail has not seen."""
    looks: list[ColumnElement[bool]] = [
        (Incident.opened_at <= now - after)
        & (IncidentTrail.at.is_(None) | (IncidentTrail.at < Incident.opened_at + after))
        for after in LOOKS
    ]
    newest = (
        select(func.max(Alert.opened_at))
        .join(IncidentAlert, IncidentAlert.alert == Alert.id)
        .where(IncidentAlert.incident == Incident.id, Alert.recovered_at.is_(None))
        .scalar_subquery()
    )
    looks.append(IncidentTrail.at < newest)
    query = (
        select(Incident)
        .outerjoin(IncidentTrail, IncidentTrail.incident == Incident.id)
        .where(
            Incident.state == "open",
            Incident.of == "",
            Incident.joined_into.is_(None),
            or_(*looks),
            Incident.id.not_in(without),
        )
        .order_by(IncidentTrail.at.is_not(None), Incident.level.desc(), Incident.id.desc())
        .limit(1)
    )
    return session.scalar(query)
