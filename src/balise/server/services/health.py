"""How services do: what their readers say, and the states that come of it."""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from typing import Any

from pydantic import ValidationError
from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from balise.api.hosts import State
from balise.api.services import ServiceTurn
from balise.api.spans import seconds
from balise.core.health import worst
from balise.server.alerts.book import AlertBook
from balise.server.events.changes import ChangeLog, ChangeOnHost
from balise.server.hosts.directory import Directory
from balise.server.services.checks import MOST_ON_HOST
from balise.server.services.kits import KitBook
from balise.store.state import tables
from balise.store.state.store import StateStore

MOST_STEPS = 500
LATE = 3.0
"""Intervals without a word after which a service is silent."""
GRACE = 45.0


@dataclass
class Heard:
    """What was last heard of a service. `at` is unix seconds."""

    at: float | None = None
    turn: ServiceTurn = field(default_factory=lambda: ServiceTurn(problem=None))
    state: State = "silent"
    answering: bool | None = None
    """Whether it could be read, as it was last written down."""


class ServiceHealth:
    """What was last heard of every service."""

    def __init__(
        self, *, state: StateStore, directory: Directory, kits: KitBook, alerts: AlertBook, changes: ChangeLog
    ) -> None:
        self._state = state
        self._directory = directory
        self._kits = kits
        self._alerts = alerts
        self._changes = changes
        self._heard: dict[int, Heard] = {}

    def of(self, number: int) -> Heard:
        return self._heard.get(number, Heard())

    def forget(self, number: int) -> None:
        """A service is read anew, or is gone: what was heard counts no more."""
        self._heard.pop(number, None)

    def note(self, number: int, turn: ServiceTurn) -> None:
        """How reading a service went just now."""
        heard = self._heard.setdefault(number, Heard())
        held = {part.part: part for part in heard.turn.parts}
        # Parts that were not due this time are as they were.
        held.update({part.part: part for part in turn.parts})
        parts = list(held.values())
        problems = [f"{p.part}: {p.problem}" for p in parts if p.problem]
        heard.turn = turn.model_copy(update={"parts": parts, "problems": problems})
        heard.at = time.time()

    def note_report(self, content: dict[str, Any]) -> None:
        """What an agent says of the services it reads, by id."""
        told = content.get("services")
        for number, said in list(told.items())[:MOST_ON_HOST] if isinstance(told, dict) else ():
            if not str(number).isdecimal():
                continue
            try:
                self.note(int(number), ServiceTurn.model_validate(said))
            except ValidationError:
                self.note(int(number), ServiceTurn(problem=str(said)[:300] if said else None))

    def take_facts(self, host: int, content: dict[str, Any], at: float) -> None:
        """What a service said of itself: its version, identity and role. A change of any is kept and told."""
        number = content.get("service")
        del at
        row = self._state.read(lambda s: s.get(tables.Service, number)) if isinstance(number, int) else None
        if row is None or row.host != host:
            return
        facts = {k: str(content[k])[:200] for k in ("version", "identity", "role") if content.get(k)}
        before = {k: str(v) for k, v in (row.facts or {}).items()}
        if not facts or facts == before:
            return

        def write(session: Session) -> list[tables.ServiceStep]:
            kept = session.get_one(tables.Service, row.id)
            kept.facts = {**before, **facts}
            steps = [
                tables.ServiceStep(service=row.id, at=time.time(), what=k, before=before[k], after=v)
                for k, v in facts.items()
                if k in before and before[k] != v
            ]
            _add_steps(session, steps)
            return steps

        steps = self._state.write(write)
        known = self._directory.get(host)
        if known is not None:
            for step in steps:
                self._changes.keep([_told(known.name, row.name, step)])

    def judge(self) -> None:
        """Writes down the states that changed since the last look."""
        rows = self._state.read(lambda s: list(s.scalars(select(tables.Service))))
        now = time.time()
        steps = []
        for row in rows:
            heard = self._heard.setdefault(row.id, Heard())
            state = self.state_of(row, now)
            if state != heard.state and heard.at is not None:
                steps.append(tables.ServiceStep(service=row.id, at=now, what="state", before=heard.state, after=state))
                heard.state = state
            answers = heard.turn.problem is None
            if heard.at is not None and answers != heard.answering:
                words = {True: "yes", False: "no", None: ""}
                before, after = words[heard.answering], words[answers]
                steps.append(tables.ServiceStep(service=row.id, at=now, what="answering", before=before, after=after))
                heard.answering = answers
        if steps:
            self._state.write(lambda s: _add_steps(s, steps))

    def state_of(self, row: tables.Service, now: float) -> State:
        """The state of a service: paused with its host, silent, or the worst of its reading and its alerts."""
        known = self._directory.get(row.host)
        if known is not None and known.state == "paused":
            return "paused"
        heard = self.of(row.id)
        if heard.at is None or now - heard.at > max(GRACE, LATE * self.every(row)):
            return "silent"
        own: State = "critical" if heard.turn.problem else "warning" if heard.turn.problems else "ok"
        return worst([own, *(alert.severity for alert in self._alerts.open.of_service(row.host, row.name))])

    def every(self, row: tables.Service) -> float:
        """Seconds between readings of a service."""
        if row.every:
            return row.every
        kit = self._kits.find(row.kit)
        return seconds(kit.every) if kit else 60.0


def _told(host: str, service: str, step: tables.ServiceStep) -> ChangeOnHost:
    """What happened to a service, as a change on its host."""
    words = {
        "version": f"{service} went from version {step.before} to {step.after}",
        "identity": f"{service} is another instance now: its identity changed",
        "role": f"{service} was {step.before} and is {step.after} now",
    }
    attributes = {"change.kind": "service", "change.name": service, "service.name": service}
    attributes |= {"change.what": step.what, "change.before": step.before, "change.after": step.after}
    return ChangeOnHost(host, words.get(step.what, f"{service}: {step.what}"), attributes)


def _add_steps(session: Session, steps: list[tables.ServiceStep]) -> None:
    """Keeps what happened; of each service only the last so many."""
    session.add_all(steps)
    session.flush()
    for number in {step.service for step in steps}:
        mine = tables.ServiceStep.service == number
        if (session.scalar(select(func.count()).select_from(tables.ServiceStep).where(mine)) or 0) > MOST_STEPS:
            newest = select(tables.ServiceStep.id).where(mine).order_by(tables.ServiceStep.id.desc()).limit(MOST_STEPS)
            session.execute(delete(tables.ServiceStep).where(mine, tables.ServiceStep.id.not_in(newest)))
