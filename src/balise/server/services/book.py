"""Services on hosts: found by an agent, read by it, by the console or by a relay; one reader at a time."""

from __future__ import annotations

import time
from dataclasses import dataclass, field
from typing import Any

from pydantic import ValidationError
from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from balise.api.credentials import CredentialBody
from balise.api.hosts import State
from balise.api.kits import KitDocument, Target
from balise.api.remote import RemoteTarget
from balise.api.services import (
    Service,
    ServiceBody,
    ServiceCollection,
    ServiceStep,
    ServiceTarget,
    ServiceTurn,
)
from balise.api.spans import duration_text, rfc3339, seconds
from balise.collect.kits.reader import LOCAL
from balise.core.health import worst
from balise.server.alerts.book import AlertBook
from balise.server.errors import Refused, bad_field, unknown
from balise.server.events.changes import ChangeLog, ChangeOnHost
from balise.server.hosts.directory import Directory, Known
from balise.server.people.access import Principal, audit
from balise.server.remote.credentials import CredentialBook
from balise.server.remote.owners import CONSOLE, hand_over
from balise.server.remote.relays import RelayBook
from balise.server.services.kits import KitBook
from balise.server.services.reach import TIME_LIMIT, Reach
from balise.server.signals import Signal
from balise.store.state import tables
from balise.store.state.store import StateStore

MOST_ON_HOST = 200
NOT_FOR_READERS: dict[str, Any] = {"rules": [], "charts": [], "actions": []}
"""What of a kit whoever reads a service has no use for: an older agent need not know what is new in it."""
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


class ServiceBook:
    """All services."""

    def __init__(
        self,
        *,
        state: StateStore,
        directory: Directory,
        kits: KitBook,
        credentials: CredentialBook,
        relays: RelayBook,
        reach: Reach,
        alerts: AlertBook,
        changes: ChangeLog,
    ) -> None:
        self._state = state
        self._directory = directory
        self._kits = kits
        self._credentials = credentials
        self._relays = relays
        self._reach = reach
        self._alerts = alerts
        self._changes = changes
        self._heard: dict[int, Heard] = {}
        self._resident: dict[int, list[tables.Service]] | None = None
        """What agents read, by host; None when it has to be looked up anew."""
        self.changed = Signal[None]("services")
        """What is read of services, or by whom, is other than it was."""
        self.kit_used = Signal[KitDocument]("kit used")
        """Told a kit that has a service from now on."""

    # --- asking

    def all(self, host: str | None = None, *, kit: str | None = None) -> list[Service]:
        query = select(tables.Service).order_by(tables.Service.host, tables.Service.name)
        if host is not None:
            query = query.where(tables.Service.host == self.known(host).id)
        if kit is not None:
            query = query.where(tables.Service.kit == kit)
        rows = self._state.read(lambda s: list(s.scalars(query.limit(10_000))))
        return [self._answer(row) for row in rows if self._directory.is_here(row.host)]

    def get(self, number: int) -> Service:
        return self._answer(self.row(number))

    def row(self, number: int) -> tables.Service:
        row = self._state.read(lambda s: s.get(tables.Service, number))
        if row is None:
            raise unknown("service", number)
        return row

    def known(self, host: str) -> Known:
        known = self._directory.find(host)
        if known is None:
            raise unknown("host", host)
        return known

    def steps(self, number: int, limit: int = 100) -> list[ServiceStep]:
        """What happened to a service, newest first."""
        self.row(number)
        query = (
            select(tables.ServiceStep)
            .where(tables.ServiceStep.service == number)
            .order_by(tables.ServiceStep.at.desc(), tables.ServiceStep.id.desc())
            .limit(limit)
        )
        return [_step(row) for row in self._state.read(lambda s: list(s.scalars(query)))]

    def _answer(self, row: tables.Service) -> Service:
        heard = self._heard.get(row.id, Heard())
        kit = self._kits.find(row.kit)
        facts = {k: str(v) for k, v in (row.facts or {}).items()}
        return Service(
            id=row.id,
            name=row.name,
            host=self._directory.name(row.host) or "",
            kit=row.kit,
            kit_version=kit.version if kit else "",
            state=self._state_of(row, heard, time.time()),
            version=facts.get("version"),
            facts=facts,
            target=row.target,
            credential=row.credential,
            every=duration_text(self._every(row)),
            site=row.site,
            collection=ServiceCollection(
                mode=row.mode,  # type: ignore[arg-type]
                by=self._by(row),
                problem=heard.turn.problem or "; ".join(heard.turn.problems)[:500] or None,
                at=rfc3339(heard.at) if heard.at else None,
                seconds=heard.turn.seconds,
            ),
            parts=heard.turn.parts,
            alerts=self._alerts.open.of_service(row.host, row.name),
        )

    def _state_of(self, row: tables.Service, heard: Heard, now: float) -> State:
        if heard.at is None or now - heard.at > max(GRACE, LATE * self._every(row)):
            return "silent"
        own: State = "critical" if heard.turn.problem else "warning" if heard.turn.problems else "ok"
        return worst([own, *(alert.severity for alert in self._alerts.open.of_service(row.host, row.name))])

    def _every(self, row: tables.Service) -> float:
        if row.every:
            return row.every
        kit = self._kits.find(row.kit)
        return seconds(kit.every) if kit else 60.0

    def _by(self, row: tables.Service) -> str:
        return "the agent of its host" if row.mode == "resident" else self._relays.name_of(row.owner)

    # --- changing

    def add(self, body: ServiceBody, who: Principal) -> Service:
        """Takes up a service, read from now on.

        Raises:
            Refused: 409 naming who reads it already, 422 when it cannot be read in this mode, or does not answer.
        """
        held = self._directory.find(body.host)
        if held is None and body.mode != "remote":
            raise bad_field("host", f"there is no host {body.host!r}, and so no agent that could have found it")
        row = tables.Service(created_at=time.time(), facts={})
        self._check(row, held, body, who)
        return self._keep(row, self._directory.ensure(body.host), body, who)

    def change(self, number: int, body: ServiceBody, who: Principal) -> Service:
        """Another reader or place from now on; its identity, series and alerts stay."""
        row = self.row(number)
        known = self._directory.get(row.host)
        if known is None or known.name != body.host:
            raise bad_field("host", "a service stays on its host: add another one there")
        if body.kit != row.kit and "kit" in body.model_fields_set:
            raise bad_field("kit", f"this service is read with the kit {row.kit}: add another one for {body.kit}")
        body = body.model_copy(update={"kit": row.kit})
        self._check(row, known, body, who)
        return self._keep(row, known, body, who)

    def _keep(self, row: tables.Service, known: Known, body: ServiceBody, who: Principal) -> Service:
        kit = self._kits.chosen(body.kit)
        name = body.name or row.name or self._name_for(known, kit, body.target)
        before = f"{row.mode} by {self._by(row)}" if row.id else ""

        def write(session: Session) -> int:
            kept = session.merge(row) if row.id else row
            if not row.id:
                kept.host = known.id
                session.add(kept)
            kept.name, kept.kit, kept.mode, kept.credential = name, body.kit, body.mode, body.credential
            kept.target, kept.every = dict(body.target), seconds(body.every) if body.every else 0.0
            kept.site = body.site
            hand_over(kept, CONSOLE if body.mode == "resident" else self._relays.owner_of(kept), time.time())
            session.flush()
            audit(session, who.name, "service.put", f"{known.name}, {name}", mode=body.mode, kit=body.kit)
            what, after = ("collection" if row.id else "added"), f"{kept.mode} by {self._by(kept)}"
            if before != after:
                session.add(tables.ServiceStep(service=kept.id, at=time.time(), what=what, before=before, after=after))
            return int(kept.id)

        number = self._state.write(write)
        self._resident = None
        self._heard.pop(number, None)
        self.kit_used.tell(kit)
        self.changed.tell(None)
        return self.get(number)

    def _name_for(self, known: Known, kit: KitDocument, target: Target) -> str:
        """A name that says what it is: the kit's own, with the port or a number where there are several."""
        taken = {s.name for s in self.all(known.name)}
        first = f"port {target.get('port')}" if kit.kit == "port" else kit.kit
        names = [first, f"{kit.kit} {target.get('port') or target.get('database') or 2}"]
        names += [f"{kit.kit} {n}" for n in range(2, MOST_ON_HOST + 3)]
        return next(n for n in names if n not in taken)

    def _check(self, row: tables.Service, known: Known | None, body: ServiceBody, who: Principal) -> None:
        kit = self._kits.find(body.kit)
        if kit is None:
            raise bad_field("kit", f"there is no kit {body.kit!r}: balise kit list shows those there are")
        if known is not None and known.mode == "resident" and body.mode == "remote":
            raise bad_field("mode", f"{known.name!r} has an agent: take split, or resident to let the agent read it")
        if body.mode != "remote" and known is not None and known.mode != "resident":
            word = "that could read it" if body.mode == "resident" else "that found it"
            raise bad_field("mode", f"{known.name!r} has no agent {word}: take remote")
        if body.mode != "resident" and kit.by in LOCAL:
            if known is None or self._reach.hand_for(kit, known) is None:
                raise bad_field(
                    "mode",
                    f"the kit {kit.kit} looks at the host itself: let its agent read it (resident), or enrol the host "
                    "over SSH",
                )
            if kit.generic and who.role != "administrator":
                raise bad_field("kit", "only an administrator may have any command run over SSH: make a kit of it")
        usual = kit.target["socket"].default if "socket" in kit.target else None
        if who.role != "administrator" and body.target.get("socket") not in (None, "", usual):
            raise bad_field("target.socket", "only an administrator may have another socket than the kit's asked")
        self._check_credential(kit, known, body, who)
        target = self._reach.whole(kit, known, body.target, body.mode)
        if known is not None:
            self._check_others(row, known, kit, target, body)
        if body.mode != "resident" and not body.site:
            # What the console is to read has to answer it first.
            read = self._reach.attempt(kit, target, self._reach.secret(body.credential), known=known)
            if read.nothing:
                field_name = "credential" if "password" in read.nothing else "target"
                raise bad_field(field_name, f"the console cannot read it: {read.nothing}")

    def _check_credential(self, kit: KitDocument, known: Known | None, body: ServiceBody, who: Principal) -> None:
        if body.credential is None:
            if kit.credential is not None and kit.credential.needed:
                raise bad_field(
                    "credential", f"the kit {kit.kit} needs one of kind {kit.credential.kind} (balise credential set)"
                )
            return
        self._credentials.usable(body.credential, who, None, known.groups if known else ())
        kind = self._credentials.get(body.credential).kind
        if kit.credential is None or kind != kit.credential.kind:
            wants = f"one of kind {kit.credential.kind}" if kit.credential else "none"
            raise bad_field("credential", f"{body.credential!r} is of kind {kind}; the kit {kit.kit} wants {wants}")

    def _check_others(
        self, row: tables.Service, known: Known, kit: KitDocument, target: Target, body: ServiceBody
    ) -> None:
        others = [s for s in self.all(known.name) if s.id != row.id]
        if len(others) >= MOST_ON_HOST:
            raise Refused(409, f"{known.name!r} has {MOST_ON_HOST} services already.")
        for other in others:
            held = self._kits.find(other.kit)
            if held is not None and other.kit == kit.kit:
                there = self._reach.whole(held, known, other.target, other.collection.mode)
                same = there == target or (
                    kit.kit == "port" and there.get("port") == target.get("port") and "address" not in other.target
                )
                if same:
                    by = f"{other.collection.by} as {other.name!r} ({other.collection.mode})"
                    what = f"Port {target.get('port')} of {known.name!r}" if target.get("port") else "It"
                    raise Refused(
                        409,
                        f"{what} is already read by {by}: change that one instead (balise service change {other.id}).",
                    )
            if body.name and other.name == body.name:
                raise bad_field("name", f"{known.name!r} has a service of this name already")

    def delete(self, number: int, who: str) -> None:
        row = self.row(number)

        def write(session: Session) -> None:
            session.delete(session.get_one(tables.Service, number))
            audit(session, who, "service.delete", f"{self._directory.name(row.host)}, {row.name}")

        self._state.write(write)
        self._resident = None
        self._heard.pop(number, None)
        self.changed.tell(None)

    def kit_changed(self, name: str, version: str, before: str) -> None:
        """Another version of a kit is chosen: its services are read with it from now on, and say so."""
        query = select(tables.Service.id).where(tables.Service.kit == name)

        def write(session: Session) -> None:
            for number in session.scalars(query) if before != version else ():
                step = tables.ServiceStep(service=number, at=time.time(), what="kit", before=before, after=version)
                session.add(step)

        self._state.write(write)
        self._resident = None
        self.changed.tell(None)

    # --- reading

    def of_agent(self, known: Known) -> list[ServiceTarget]:
        """What the agent of a host reads itself."""
        held = self._resident
        if held is None:
            query = select(tables.Service).where(tables.Service.mode != "remote").order_by(tables.Service.id)
            held = {}
            for row in self._state.read(lambda s: list(s.scalars(query))):
                held.setdefault(row.host, []).append(row)
            self._resident = held
        found = []
        for row in held.get(known.id, []):
            target = self._target(known, row)
            if target is None:
                continue
            if row.mode == "split":
                # The console or a relay asks the service; its logs are on the host, and its agent follows them.
                if not target.kit.logs:
                    continue
                kit = target.kit.model_copy(update={"read": []})
                target = target.model_copy(update={"kit": kit, "credential": None})
            found.append(target)
        return found

    def targets(self, owner: int) -> list[RemoteTarget]:
        """What the console, or a relay, reads."""
        query = select(tables.Service).where(tables.Service.mode != "resident", tables.Service.owner == owner)
        found = []
        for row in self._state.read(lambda s: list(s.scalars(query))):
            known = self._directory.get(row.host)
            if known is None or known.retired:
                continue
            service = self._target(known, row)
            if service is None:
                continue
            found.append(self._reach.from_afar(known, row, service))
        return found

    def _target(self, known: Known, row: tables.Service) -> ServiceTarget | None:
        """All that reading a service takes; None, with its problem noted, when something of it is lost."""
        kit = self._kits.find(row.kit)
        try:
            if kit is None:
                raise Refused(404, f"the kit {row.kit!r} is gone: put it back, or delete this service")
            credential: CredentialBody | None = self._reach.secret(row.credential)
            target = self._reach.whole(kit, known, row.target, row.mode)
        except Refused as error:
            self.note(row.id, ServiceTurn(problem=error.detail))
            return None
        return ServiceTarget(
            id=row.id,
            name=row.name,
            kit=kit.model_copy(update=NOT_FOR_READERS),
            kit_digest=self._kits.digest(kit.kit),
            target=target,
            credential=credential,
            every=self._every(row),
            time_limit=TIME_LIMIT,
        )

    def settle_owners(self) -> bool:
        """Gives every service that is read from afar to whom it belongs now; whether any changed hands."""

        def write(session: Session) -> bool:
            moved = False
            for row in session.scalars(select(tables.Service).where(tables.Service.mode != "resident")):
                owner = self._relays.owner_of(row)
                if owner != row.owner:
                    hand_over(row, owner, time.time())
                    moved = True
            return moved

        return self._state.write(write)

    def users_of(self, credential: str) -> list[tuple[str, RemoteTarget]]:
        """The services that the console reads with a credential, each by its name and as a target."""
        query = select(tables.Service.id).where(tables.Service.credential == credential)
        numbers = set(self._state.read(lambda s: list(s.scalars(query))))
        return [
            (f"{t.host}, {t.service.name}", t) for t in self.targets(CONSOLE) if t.service and t.service.id in numbers
        ]

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

    def judge(self) -> None:
        """Writes down the states that changed since the last look."""
        rows = self._state.read(lambda s: list(s.scalars(select(tables.Service))))
        now = time.time()
        steps = []
        for row in rows:
            heard = self._heard.setdefault(row.id, Heard())
            state = self._state_of(row, heard, now)
            if state != heard.state and heard.at is not None:
                steps.append(tables.ServiceStep(service=row.id, at=now, what="state", before=heard.state, after=state))
                heard.state = state
        if steps:
            self._state.write(lambda s: _add_steps(s, steps))

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


def _step(row: tables.ServiceStep) -> ServiceStep:
    return ServiceStep(at=rfc3339(row.at), what=row.what, before=row.before, after=row.after)  # type: ignore[arg-type]
