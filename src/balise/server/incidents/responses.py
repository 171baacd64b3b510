"""Responses as they are kept, and at work: steps in order, each written down with what came of it."""

from __future__ import annotations

import logging
from collections.abc import Callable
from dataclasses import dataclass

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from balise.api.probes import ProbeResult
from balise.api.responses import Capture, Check, ProbeAgain, Response, ResponseBody, ResponseStep, Wait
from balise.api.spans import seconds
from balise.core import filters
from balise.core.filters import Filter
from balise.server.alerts.answers import clue_of
from balise.server.asking import read_filter
from balise.server.callouts.book import check_there
from balise.server.callouts.ways import Way, ways_to
from balise.server.errors import Refused, bad_field, unknown
from balise.server.events.evidence import EvidenceReader
from balise.server.hosts.directory import Directory
from balise.server.incidents.answers import alerts_of
from balise.server.incidents.book import IncidentBook, add_line
from balise.server.incidents.facts import incident_facts
from balise.server.incidents.words import add_word
from balise.server.people.access import audit
from balise.store.state import tables
from balise.store.state.store import StateStore

log = logging.getLogger(__name__)
MOST_RESPONSES = 200
CAPTURED = 3
"""Alerts of an incident whose hosts are captured in one step."""
ProbeNow = Callable[[str], ProbeResult]


@dataclass(frozen=True)
class _Ready:
    name: str
    body: ResponseBody
    when: Filter | None


class ResponseBook:
    """All responses."""

    def __init__(
        self,
        *,
        state: StateStore,
        directory: Directory,
        incidents: IncidentBook,
        evidence: EvidenceReader,
        probe: ProbeNow,
    ) -> None:
        """`probe` makes a probe now; it raises Refused for one that cannot be made from here."""
        self._state = state
        self._directory = directory
        self._incidents = incidents
        self._evidence = evidence
        self._probe = probe
        self._ready: list[_Ready] = []
        self._read()

    def _read(self) -> None:
        rows = self._state.read(lambda s: list(s.scalars(select(tables.Response).order_by(tables.Response.name))))
        bodies = [(row.name, ResponseBody.model_validate(row.body)) for row in rows]
        self._ready = [_Ready(name, body, read_filter(body.when, "when")) for name, body in bodies]

    # --- as they are kept

    def all(self) -> list[Response]:
        return [Response(**one.body.model_dump(), name=one.name) for one in self._ready]

    def get(self, name: str) -> Response:
        return Response(**self._found(name).body.model_dump(), name=name)

    def _found(self, name: str) -> _Ready:
        one = next((one for one in self._ready if one.name == name), None)
        if one is None:
            raise unknown("response", name)
        return one

    def put(self, name: str, body: ResponseBody, who: str) -> Response:
        """Raises Refused 422 for a filter that cannot be read, or somebody or a probe that is not there."""
        read_filter(body.when, "when")

        def write(session: Session) -> None:
            check_there(session, body.told(), "steps")
            for step in body.steps:
                if isinstance(step, ProbeAgain) and session.get(tables.Probe, step.probe) is None:
                    raise bad_field("steps", f"there is no probe {step.probe}: make it first")
            row = session.get(tables.Response, name)
            if row is None:
                if len(self._ready) >= MOST_RESPONSES:
                    raise Refused(409, f"There are {MOST_RESPONSES} responses already: delete some first.")
                row = tables.Response(name=name)
                session.add(row)
            row.body = body.model_dump(mode="json", by_alias=True)
            audit(session, who, "response.put", name, on=body.on, steps=[step.do for step in body.steps])

        self._state.write(write)
        self._read()
        return self.get(name)

    def delete(self, name: str, who: str) -> None:
        def write(session: Session) -> None:
            row = session.get(tables.Response, name)
            if row is None:
                raise unknown("response", name)
            session.delete(row)
            audit(session, who, "response.delete", name)

        self._state.write(write)
        self._read()

    # --- at work

    def look(self, now: float) -> None:
        """Begins with the incidents that responses are for, and takes every step that is due."""
        if not self._ready:
            return
        query = select(tables.Incident).where(tables.Incident.state == "open", tables.Incident.of == "")
        for row in self._state.read(lambda s: list(s.scalars(query))):
            for ready in self._ready:
                self._begin(row, ready, now)
        due = select(tables.ResponseRun).where(tables.ResponseRun.due <= now).order_by(tables.ResponseRun.due)
        for run in self._state.read(lambda s: list(s.scalars(due))):
            self._take_step(run, now)

    def _begin(self, row: tables.Incident, ready: _Ready, now: float) -> None:
        level = self._incidents.told_level(row.id)
        at_work = level > 0 if ready.body.on == "opened" else row.recovered_at is not None
        if not at_work or self._state.read(lambda s: s.get(tables.ResponseRun, (row.id, ready.name))) is not None:
            return
        facts = incident_facts(row, level or row.level, self._incidents.members(row.id), self._directory)
        if ready.when is not None and not filters.matches(ready.when, facts.get):
            return

        def write(session: Session) -> None:
            since = now - seconds(ready.body.per)
            lately = (tables.ResponseRun.response == ready.name, tables.ResponseRun.begun > since)
            count = session.scalar(select(func.count()).select_from(tables.ResponseRun).where(*lately)) or 0
            is_one_too_many = count >= ready.body.at_most
            run = tables.ResponseRun(incident=row.id, response=ready.name, begun=now, step=0)
            run.due = None if is_one_too_many else now
            session.add(run)
            if is_one_too_many:
                said = f"the response {ready.name} is left out: it has begun {count} times in {ready.body.per}"
                add_line(session, row.id, now, "action", said, None)

        self._incidents.change(write)

    def _take_step(self, run: tables.ResponseRun, now: float) -> None:
        ready = next((one for one in self._ready if one.name == run.response), None)
        step = ready.body.steps[run.step] if ready is not None and run.step < len(ready.body.steps) else None
        probed = self._probed(step) if isinstance(step, ProbeAgain) else ""

        def write(session: Session) -> None:
            held = session.get_one(tables.ResponseRun, (run.incident, run.response))
            row = session.get_one(tables.Incident, run.incident)
            by_hand = row.state == "closed" and row.recovered_at is None
            if ready is None or step is None or by_hand:
                held.due = None
                return
            said, wait = self._done(session, row, ready, step, probed, now)
            add_line(session, row.id, now, "action", f"{ready.name}: {said}", None)
            held.step += 1
            ends = wait is None or held.step >= len(ready.body.steps)
            held.due = None if ends else now + (wait or 0.0)

        self._incidents.change(write)
        self._incidents.changed.tell(run.incident)

    def _done(
        self,
        session: Session,
        row: tables.Incident,
        ready: _Ready,
        step: ResponseStep,
        probed: str,
        now: float,
    ) -> tuple[str, float | None]:
        """What came of a step, and the seconds until the next one; None when nothing is to follow."""
        if isinstance(step, Capture):
            return self._captured(session, row, now), 0.0
        if isinstance(step, ProbeAgain):
            return probed, 0.0
        if isinstance(step, Wait):
            return f"waits {step.for_}", seconds(step.for_)
        if isinstance(step, Check):
            helped = row.recovered_at is not None
            return ("all has recovered: it helped", None) if helped else ("it is still wrong", 0.0)
        why = f"the response {ready.name} did not help"
        told: list[str] = []
        for target in step.tell:
            for way in ways_to(session, target, now):
                if isinstance(way, Way):
                    add_word(session, row.id, (way.channel, way.person), "", "changed", why, 0.0, now)
                    told.append(way.person or way.channel)
        return (f"tells {', '.join(dict.fromkeys(told))} that it did not help" if told else "nobody could be told"), 0.0

    def _captured(self, session: Session, row: tables.Incident, now: float) -> str:
        said = []
        hosts = dict.fromkeys(alert.host_name for alert, _ in alerts_of(session, row.id, CAPTURED) if alert.host_name)
        for host in hosts:
            try:
                evidence = self._evidence.of_breach(host, now, now)
            except Exception as error:
                log.exception("evidence of host=%s cannot be read", host)
                said.append(f"{host}: cannot be captured ({type(error).__name__})")
                continue
            busiest = [f"{one['name']} {one['cpu'] * 100:.0f} % of a core" for one in evidence["processes"][:3]]
            clue = clue_of(evidence)
            found = "; ".join([*([clue] if clue else []), *([f"busiest {', '.join(busiest)}"] if busiest else [])])
            said.append(f"{host}: {found or 'nothing stands out'}")
        return "captured " + (". ".join(said) or "nothing: it has no host")

    def _probed(self, step: ProbeAgain) -> str:
        try:
            result = self._probe(step.probe)
        except Refused as error:
            return f"probe {step.probe} was not made: {error.detail}"
        return f"probe {step.probe} {'passes' if result.good else 'fails'}: {result.message}"
