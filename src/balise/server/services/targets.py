"""What is to be read of services, and by whom."""

from __future__ import annotations

import time
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.credentials import CredentialBody
from balise.api.remote import RemoteTarget
from balise.api.services import ServiceTarget, ServiceTurn
from balise.server.errors import Refused
from balise.server.hosts.directory import Directory, Known
from balise.server.remote.owners import CONSOLE, hand_over
from balise.server.remote.relays import RelayBook
from balise.server.services.health import ServiceHealth
from balise.server.services.kits import KitBook
from balise.server.services.reach import TIME_LIMIT, Reach
from balise.store.state import tables
from balise.store.state.store import StateStore

NOT_FOR_READERS: dict[str, Any] = {"rules": [], "charts": [], "actions": []}
"""What of a kit whoever reads a service has no use for: an older agent need not know what is new in it."""


class ServiceTargets:
    """What agents, the console and relays are given to read."""

    def __init__(
        self,
        *,
        state: StateStore,
        directory: Directory,
        kits: KitBook,
        relays: RelayBook,
        reach: Reach,
        health: ServiceHealth,
    ) -> None:
        self._state = state
        self._directory = directory
        self._kits = kits
        self._relays = relays
        self._reach = reach
        self._health = health
        self._resident: dict[int, list[tables.Service]] | None = None
        """What agents read, by host; None when it has to be looked up anew."""

    def forget(self) -> None:
        """Services are other than they were: what agents read is looked up anew."""
        self._resident = None

    def note(self, number: int, turn: ServiceTurn) -> None:
        """How reading a service went just now."""
        self._health.note(number, turn)

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

    def users_of(self, credential: str) -> list[tuple[str, RemoteTarget]]:
        """The services that the console reads with a credential, each by its name and as a target."""
        query = select(tables.Service.id).where(tables.Service.credential == credential)
        numbers = set(self._state.read(lambda s: list(s.scalars(query))))
        return [
            (f"{t.host}, {t.service.name}", t) for t in self.targets(CONSOLE) if t.service and t.service.id in numbers
        ]

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

    def _target(self, known: Known, row: tables.Service) -> ServiceTarget | None:
        """All that reading a service takes; None, with its problem noted, when something of it is lost."""
        kit = self._kits.find(row.kit)
        try:
            if kit is None:
                raise Refused(404, f"the kit {row.kit!r} is gone: put it back, or delete this service")
            credential: CredentialBody | None = self._reach.secret(row.credential)
            target = self._reach.whole(kit, known, row.target, row.mode)
        except Refused as error:
            self._health.note(row.id, ServiceTurn(problem=error.detail))
            return None
        return ServiceTarget(
            id=row.id,
            name=row.name,
            kit=kit.model_copy(update=NOT_FOR_READERS),
            kit_digest=self._kits.digest(kit.kit),
            target=target,
            credential=credential,
            every=self._health.every(row),
            time_limit=TIME_LIMIT,
        )
