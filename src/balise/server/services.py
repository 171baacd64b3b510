"""Services on hosts: found by an agent, read by it, by the console or by a relay; one reader at a time."""

from __future__ import annotations

import ipaddress
import time
from collections.abc import Callable
from typing import Any

from pydantic import ValidationError
from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.hosts import State
from balise.api.remote import RemoteTarget
from balise.api.services import (
    FoundService,
    HostServices,
    PortTarget,
    Service,
    ServiceBody,
    ServiceCollection,
    ServiceTarget,
)
from balise.api.spans import duration_text, seconds
from balise.collect.ports import look
from balise.server.access import audit
from balise.server.directory import Directory, Known
from balise.server.errors import Refused, bad_field, unknown
from balise.server.remote import CONSOLE, hand_over
from balise.store.state import tables
from balise.store.state.store import StateStore

TIME_LIMIT = 5.0
MOST_ON_HOST = 200
LATE = 3.0
"""Intervals without a word after which a service is silent."""


class ServiceBook:
    """All services. `owner_of` and `name_of` say which relay has what its site reads."""

    def __init__(self, state: StateStore, directory: Directory) -> None:
        self._state = state
        self._directory = directory
        self._heard: dict[int, tuple[float, str | None]] = {}
        self._resident: dict[int, list[tables.Service]] | None = None
        """What agents read, by host; None when it has to be looked up anew."""
        self.owner_of: Callable[[Any], int] = lambda _row: CONSOLE
        self.name_of: Callable[[int], str] = lambda _owner: "the console"
        self.report_of: Callable[[int], dict[str, Any] | None] = lambda _host: None
        self.changed: Callable[[], None] = lambda: None

    # --- asking

    def all(self, host: str | None = None) -> list[Service]:
        query = select(tables.Service).order_by(tables.Service.host, tables.Service.name)
        if host is not None:
            query = query.where(tables.Service.host == self._known(host).id)
        rows = self._state.read(lambda s: list(s.scalars(query.limit(10_000))))
        return [self._answer(row) for row in rows if self._directory.is_here(row.host)]

    def get(self, number: int) -> Service:
        return self._answer(self._row(number))

    def of_host(self, name: str) -> HostServices:
        """The services of a host, and what its agent found listening that nobody reads yet."""
        items = self.all(name)
        read = {item.target.port for item in items}
        report = self.report_of(self._known(name).id) or {}
        found: list[FoundService] = []
        for one in report.get("listening") or []:
            try:
                found.append(FoundService.model_validate(one))
            except ValidationError:
                continue
        return HostServices(items=items, found=[f for f in found if f.port not in read])

    def _row(self, number: int) -> tables.Service:
        row = self._state.read(lambda s: s.get(tables.Service, number))
        if row is None:
            raise unknown("service", number)
        return row

    def _known(self, host: str) -> Known:
        known = self._directory.find(host)
        if known is None:
            raise unknown("host", host)
        return known

    def _answer(self, row: tables.Service) -> Service:
        at, problem = self._heard.get(row.id, (None, None))
        state: State = "ok" if problem is None else "critical"
        if at is None or time.time() - at > max(45.0, LATE * row.every):
            state = "silent"
        return Service(
            id=row.id,
            name=row.name,
            host=self._directory.name(row.host) or "",
            kit=row.kit,
            state=state,
            target=PortTarget.model_validate(row.target),
            every=duration_text(row.every),
            site=row.site,
            collection=ServiceCollection(mode=row.mode, by=self._by(row), problem=problem),  # type: ignore[arg-type]
        )

    def _by(self, row: tables.Service) -> str:
        return "the agent of its host" if row.mode == "resident" else self.name_of(row.owner)

    # --- changing

    def add(self, body: ServiceBody, who: str) -> Service:
        """Takes up a service, read from now on.

        Raises:
            Refused: 409 naming who reads it already, 422 when it cannot be read in this mode, or does not answer.
        """
        known = self._directory.ensure(body.host)
        row = tables.Service(host=known.id, created_at=time.time())
        return self._put(row, known, body, who)

    def change(self, number: int, body: ServiceBody, who: str) -> Service:
        """Another reader or place from now on; its identity, series and alerts stay."""
        row = self._row(number)
        known = self._directory.get(row.host)
        if known is None or known.name != body.host:
            raise bad_field("host", "a service stays on its host: add another one there")
        return self._put(row, known, body, who)

    def _put(self, row: tables.Service, known: Known, body: ServiceBody, who: str) -> Service:
        self._check(row, known, body)
        name = body.name or row.name or f"port {body.target.port}"

        def write(session: Session) -> int:
            kept = session.merge(row) if row.id else row
            if not row.id:
                session.add(kept)
            kept.name, kept.kit, kept.mode = name, body.kit, body.mode
            kept.target, kept.every, kept.site = body.target.model_dump(), seconds(body.every), body.site
            hand_over(kept, CONSOLE if body.mode == "resident" else self.owner_of(kept), time.time())
            session.flush()
            audit(session, who, "service.put", f"{known.name}, {name}", mode=body.mode)
            return int(kept.id)

        number = self._state.write(write)
        self._resident = None
        self._heard.pop(number, None)
        self.changed()
        return self.get(number)

    def _check(self, row: tables.Service, known: Known, body: ServiceBody) -> None:
        if body.mode == "resident" and known.mode != "resident":
            raise bad_field("mode", f"{known.name!r} has no agent that could read it: take remote")
        if body.mode == "split" and known.mode != "resident":
            raise bad_field("mode", f"{known.name!r} has no agent that found it: take remote")
        if body.mode == "remote" and known.mode == "resident":
            raise bad_field("mode", f"{known.name!r} has an agent: take split, or resident to let the agent read it")
        others = [s for s in self.all(known.name) if s.id != row.id]
        if len(others) >= MOST_ON_HOST:
            raise Refused(409, f"{known.name!r} has {MOST_ON_HOST} services already.")
        for other in others:
            if other.target == body.target or (other.target.port == body.target.port and not other.target.address):
                by = f"{other.collection.by} as {other.name!r} ({other.collection.mode})"
                raise Refused(
                    409,
                    f"Port {body.target.port} of {known.name!r} is already read by {by}: change that one instead "
                    f"(balise service change {other.id}).",
                )
            if body.name and other.name == body.name:
                raise bad_field("name", f"{known.name!r} has a service of this name already")
        if body.mode != "resident" and not body.site:
            self._try(known, body)

    def _try(self, known: Known, body: ServiceBody) -> None:
        """What the console is to read has to answer it first."""
        target = ServiceTarget(
            id=0,
            name=body.name or f"port {body.target.port}",
            address=self._address(known, body.target, body.mode),
            port=body.target.port,
            every=60.0,
            time_limit=TIME_LIMIT,
        )
        _, problem = look(target)
        if problem:
            raise bad_field("target", f"the console cannot reach it: {problem}")

    def _address(self, known: Known, target: PortTarget, mode: str) -> str:
        """Where a service is reached: as given, on loopback by its agent, else at the host's first own address."""
        if target.address:
            return target.address
        if mode == "resident":
            return "127.0.0.1"
        row = self._state.read(lambda s: s.get(tables.Remote, known.id))
        if row is not None:
            return row.address
        found = [a for a in known.facts.get("addresses") or [] if _is_ip(a)]
        if not found:
            raise bad_field("target.address", f"{known.name!r} never said an address of its own: give one")
        return str(found[0])

    def delete(self, number: int, who: str) -> None:
        row = self._row(number)

        def write(session: Session) -> None:
            session.delete(session.get_one(tables.Service, number))
            audit(session, who, "service.delete", f"{self._directory.name(row.host)}, {row.name}")

        self._state.write(write)
        self._resident = None
        self._heard.pop(number, None)
        self.changed()

    # --- reading

    def of_agent(self, known: Known) -> list[ServiceTarget]:
        """What the agent of a host reads itself."""
        held = self._resident
        if held is None:
            query = select(tables.Service).where(tables.Service.mode == "resident").order_by(tables.Service.id)
            held = {}
            for row in self._state.read(lambda s: list(s.scalars(query))):
                held.setdefault(row.host, []).append(row)
            self._resident = held
        return [self._target(known, row) for row in held.get(known.id, [])]

    def targets(self, owner: int) -> list[RemoteTarget]:
        """What the console, or a relay, reads."""
        query = select(tables.Service).where(tables.Service.mode != "resident", tables.Service.owner == owner)
        found = []
        for row in self._state.read(lambda s: list(s.scalars(query))):
            known = self._directory.get(row.host)
            if known is None or known.retired:
                continue
            try:
                service = self._target(known, row)
            except Refused as error:
                self._heard[row.id] = (time.time(), error.detail)
                continue
            found.append(
                RemoteTarget(
                    host_id=known.id,
                    host=known.name,
                    protocol="port",
                    address=service.address,
                    port=service.port,
                    credential=None,
                    every=row.every,
                    time_limit=TIME_LIMIT,
                    service=service,
                )
            )
        return found

    def _target(self, known: Known, row: tables.Service) -> ServiceTarget:
        target = PortTarget.model_validate(row.target)
        return ServiceTarget(
            id=row.id,
            name=row.name,
            address=self._address(known, target, row.mode),
            port=target.port,
            every=row.every,
            time_limit=TIME_LIMIT,
        )

    def settle_owners(self) -> bool:
        """Gives every service that is read from afar to whom it belongs now; whether any changed hands."""

        def write(session: Session) -> bool:
            moved = False
            for row in session.scalars(select(tables.Service).where(tables.Service.mode != "resident")):
                owner = self.owner_of(row)
                if owner != row.owner:
                    hand_over(row, owner, time.time())
                    moved = True
            return moved

        return self._state.write(write)

    def owned(self, number: int) -> tables.Service | None:
        return self._state.read(lambda s: s.get(tables.Service, number))

    def note(self, number: int, problem: str | None) -> None:
        """How reading a service went just now."""
        self._heard[number] = (time.time(), problem)

    def note_report(self, content: dict[str, Any]) -> None:
        """What an agent says of the services it reads: by id, what is wrong or null."""
        told = content.get("services")
        for number, problem in told.items() if isinstance(told, dict) else ():
            if str(number).isdecimal():
                self.note(int(number), str(problem)[:300] if problem else None)


def _is_ip(text: str) -> bool:
    try:
        return not ipaddress.ip_address(text).is_link_local
    except ValueError:
        return False
