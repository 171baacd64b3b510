"""How services are reached: their whole targets, their credentials, and whoever works on their hosts."""

from __future__ import annotations

import ipaddress
import time
from typing import Any

from balise.api.kits import KitReading, Target
from balise.api.remote import FollowedFile, RemoteTarget
from balise.api.services import ServiceTarget
from balise.collect.kits.reader import LOCAL, ServiceRead, looks_at_host, once
from balise.collect.kits.sources.source import filled
from balise.collect.remote.hand import SshHand
from balise.core.kits.documents import TargetError, whole_target
from balise.server.errors import bad_field
from balise.server.hosts.directory import Known
from balise.server.remote.book import RemoteBook
from balise.server.remote.credentials import CredentialBook
from balise.server.remote.thread import RemoteThread
from balise.store.state import tables
from balise.store.state.store import StateStore

TIME_LIMIT = 5.0
"""Seconds for one question to a service."""


class Reach:
    """What reading a service takes, from wherever it is read."""

    def __init__(
        self, *, state: StateStore, credentials: CredentialBook, remote: RemoteBook, thread: RemoteThread
    ) -> None:
        self._state = state
        self._credentials = credentials
        self._remote = remote
        self._thread = thread

    def whole(self, kit: KitReading, known: Known | None, target: Target, mode: str) -> Target:
        """A target with its defaults and the address that its reader reaches it at."""
        try:
            whole = whole_target(kit, target, here=mode == "resident")
        except TargetError as error:
            raise bad_field(error.field, error.detail) from None
        if "address" in kit.target and "address" not in whole:
            whole["address"] = self.address_of(known)
        return whole

    def address_of(self, known: Known | None) -> str:
        """Where a host is reached: as it is collected from, else at its first own address."""
        if known is not None:
            row = self._state.read(lambda s: s.get(tables.Remote, known.id))
            if row is not None:
                return row.address
            found = [a for a in known.facts.get("addresses") or [] if _is_ip(a)]
            if found:
                return str(found[0])
        name = known.name if known else "it"
        raise bad_field("target.address", f"{name!r} never said an address of its own: give one")

    def attempt(
        self,
        kit: KitReading,
        target: Target,
        credential: Any,
        limit: float = TIME_LIMIT,
        *,
        known: Known | None = None,
    ) -> ServiceRead:
        """Reads a target once from here, with everything that can be read from afar: over SSH where its host is."""
        hand = self.hand_for(kit, known) if known is not None else None
        parts = [part for part in kit.read if hand is not None or (part.by or kit.by) not in LOCAL]
        try:
            read = kit.model_copy(update={"read": parts})
            return once(read, target, credential, limit, kit.kit, time.time(), hand)
        finally:
            if hand is not None:
                hand.close()

    def hand_for(self, kit: KitReading, known: Known) -> SshHand | None:
        """What does a kit's commands on a host that is read over SSH."""
        target = self._remote.by_ssh(known) if looks_at_host(kit) else None
        return self._thread.hand(target) if target is not None else None

    def secret(self, name: str | None) -> Any:
        return self._credentials.secret(name) if name else None

    def from_afar(self, known: Known, row: tables.Service, service: ServiceTarget) -> RemoteTarget:
        plain = RemoteTarget(
            host_id=known.id,
            host=known.name,
            protocol="kit",
            address=str(service.target.get("address") or service.target.get("url") or row.name)[:253],
            port=int(service.target.get("port") or 1),
            credential=None,
            every=service.every,
            time_limit=TIME_LIMIT,
            service=service,
        )
        host = self._remote.by_ssh(known) if row.mode == "remote" and looks_at_host(service.kit) else None
        if host is None:
            return plain
        logs = [filled(log.path, service.target) for log in service.kit.logs]
        return plain.model_copy(
            update={
                "address": host.address,
                "port": host.port,
                "credential": host.credential,
                "host_key": host.host_key,
                "follow": [FollowedFile(path=p) for p in logs if p.startswith("/") and "{" not in p],
                "positions": host.positions,
            }
        )


def _is_ip(text: str) -> bool:
    try:
        return not ipaddress.ip_address(text).is_link_local
    except ValueError:
        return False
