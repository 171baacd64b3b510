"""Services on hosts: found by an agent, read by it, by the console or by a relay; one reader at a time."""

from __future__ import annotations

import time

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.hosts import State
from balise.api.kit_documents import KitDocument
from balise.api.kits import Target
from balise.api.services import (
    Service,
    ServiceBody,
    ServiceCollection,
    ServiceStep,
)
from balise.api.spans import duration_text, rfc3339, seconds
from balise.core.health import worst
from balise.server.alerts.book import AlertBook
from balise.server.errors import bad_field, unknown
from balise.server.hosts.directory import Directory, Known
from balise.server.people.access import Principal, audit
from balise.server.remote.credentials import CredentialBook
from balise.server.remote.owners import CONSOLE, hand_over
from balise.server.remote.relays import RelayBook
from balise.server.services.checks import MOST_ON_HOST, Checks
from balise.server.services.health import ServiceHealth
from balise.server.services.kits import KitBook
from balise.server.services.reach import Reach
from balise.server.signals import Signal
from balise.store.state import tables
from balise.store.state.store import StateStore


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
        health: ServiceHealth,
    ) -> None:
        self._state = state
        self._directory = directory
        self._kits = kits
        self._relays = relays
        self._alerts = alerts
        self._health = health
        self._checks = Checks(kits=kits, credentials=credentials, reach=reach)
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

    def states_by_host(self) -> dict[int, State]:
        """By host the worst state of its services."""
        now = time.time()
        rows = self._state.read(lambda s: list(s.scalars(select(tables.Service))))
        found: dict[int, list[State]] = {}
        for row in rows:
            found.setdefault(row.host, []).append(self._health.state_of(row, now))
        return {host: worst(states) for host, states in found.items()}

    def versions(self, kit: str) -> dict[int, str]:
        """By host the version of a kit with which services there are read."""
        chosen = self._kits.find(kit)
        if chosen is None:
            return {}
        query = select(tables.Service.host).where(tables.Service.kit == kit).distinct()
        return dict.fromkeys(self._state.read(lambda s: list(s.scalars(query))), chosen.version)

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
        heard = self._health.of(row.id)
        kit = self._kits.find(row.kit)
        facts = {k: str(v) for k, v in (row.facts or {}).items()}
        return Service(
            id=row.id,
            name=row.name,
            host=self._directory.name(row.host) or "",
            kit=row.kit,
            kit_version=kit.version if kit else "",
            state=self._health.state_of(row, time.time()),
            version=facts.get("version"),
            facts=facts,
            target=row.target,
            credential=row.credential,
            every=duration_text(self._health.every(row)),
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
        self._checks.check(held, body, who, self._others(held, row))
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
        self._checks.check(known, body, who, self._others(known, row))
        return self._keep(row, known, body, who)

    def _others(self, known: Known | None, row: tables.Service) -> list[Service]:
        return [s for s in self.all(known.name) if s.id != row.id] if known is not None else []

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
        self._health.forget(number)
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

    def delete(self, number: int, who: str) -> None:
        row = self.row(number)

        def write(session: Session) -> None:
            session.delete(session.get_one(tables.Service, number))
            audit(session, who, "service.delete", f"{self._directory.name(row.host)}, {row.name}")

        self._state.write(write)
        self._health.forget(number)
        self.changed.tell(None)

    def kit_changed(self, name: str, version: str, before: str) -> None:
        """Another version of a kit is chosen: its services are read with it from now on, and say so."""
        query = select(tables.Service.id).where(tables.Service.kit == name)

        def write(session: Session) -> None:
            for number in session.scalars(query) if before != version else ():
                step = tables.ServiceStep(service=number, at=time.time(), what="kit", before=before, after=version)
                session.add(step)

        self._state.write(write)
        self.changed.tell(None)


def _step(row: tables.ServiceStep) -> ServiceStep:
    return ServiceStep(at=rfc3339(row.at), what=row.what, before=row.before, after=row.after)  # type: ignore[arg-type]
