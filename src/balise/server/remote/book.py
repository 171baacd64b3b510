"""How hosts are reached over the network, and whose turn it is to read them."""

from __future__ import annotations

import time
from typing import Any

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from balise.api.remote import PORTS, CollectionSettings, FilePlace, RemoteBody, RemoteTarget
from balise.api.remote import Remote as RemoteAnswer
from balise.api.spans import duration_text, seconds
from balise.server.errors import Refused, bad_field, unknown
from balise.server.hosts.directory import Directory, Known
from balise.server.keeping.settings import SettingsBook
from balise.server.people.access import Access, Principal, audit
from balise.server.plans.held import HeldPlans
from balise.server.remote.credentials import CredentialBook
from balise.server.remote.owners import CONSOLE, hand_over
from balise.server.remote.relays import RelayBook
from balise.server.signals import Signal
from balise.store.state import tables
from balise.store.state.store import StateStore

WORDS = {"ssh": "SSH", "snmp": "SNMP"}


def by_words(owner: str, protocol: str) -> str:
    """`the console over SSH`."""
    return f"{owner} over {WORDS[protocol]}"


class RemoteBook:
    """How hosts are reached over the network, and whose turn it is to read them."""

    def __init__(
        self,
        *,
        state: StateStore,
        directory: Directory,
        credentials: CredentialBook,
        settings: SettingsBook,
        plans: HeldPlans,
        relays: RelayBook,
        access: Access,
    ) -> None:
        self._state = state
        self._directory = directory
        self._credentials = credentials
        self._settings = settings
        self._plans = plans
        self._relays = relays
        self._access = access
        self.changed = Signal[str]("remote host")
        """Told the name of a host that is reached otherwise from now on."""

    def get(self, name: str) -> RemoteAnswer:
        """How a host is reached. Raises Refused 404 for one that has never been."""
        known = self._known(name)
        row = self._state.read(lambda s: s.get(tables.Remote, known.id))
        if row is None:
            raise Refused(404, f"{name!r} has no address to be collected from remotely: give it one first.")
        settings = self._settings.collection()
        return RemoteAnswer(
            protocol=row.protocol,  # type: ignore[arg-type]
            address=row.address,
            port=row.port,
            credential=row.credential,
            every=duration_text(row.every) if row.every else settings.every,
            time_limit=duration_text(row.time_limit) if row.time_limit else settings.time_limit,
            host_key=shown_key(row.host_key),
            site=row.site,
            owner=self._relays.name_of(row.owner),
        )

    def put(self, name: str, body: RemoteBody, who: Principal) -> None:
        """From now on the host is collected remotely, by the console or its site's relays; its history stays."""
        known = self._known(name)
        held = self._state.read(lambda s: s.get(tables.Remote, known.id))
        protocol = body.protocol or (held.protocol if held else None)
        address = body.address or (held.address if held else None)
        credential = body.credential or (held.credential if held else None)
        if protocol is None or address is None or credential is None:
            missing = next(
                n for n, v in (("protocol", protocol), ("address", address), ("credential", credential)) if not v
            )
            raise bad_field(missing, f"{name!r} was never collected remotely: say its protocol, address and credential")
        # Whoever says where a secret is sent needs the right to it: only how often is no such matter.
        where = body.model_dump(exclude={"every", "time_limit"}, exclude_defaults=True)
        if held is None or known.mode != "remote" or where or "site" in body.model_fields_set:
            self._credentials.usable(credential, who, None, known.groups)
        before = f"{held.address}:{held.port}" if held else ""
        moved = held is None or (body.address or held.address, body.port or held.port) != (held.address, held.port)

        def write(session: Session) -> None:
            row = session.get(tables.Remote, known.id)
            if row is None:
                row = tables.Remote(host=known.id)
                session.add(row)
            row.protocol, row.address, row.credential = protocol, address, credential
            row.port = body.port or (held.port if held and protocol == held.protocol else PORTS[protocol])
            for key in ("every", "time_limit"):
                if getattr(body, key) is not None:
                    setattr(row, key, seconds(getattr(body, key)))
            if "site" in body.model_fields_set:
                row.site = body.site
            if body.accept_host_key or moved:
                row.host_key = ""
            set_mode(session, session.get_one(tables.Host, known.id), "remote", by_words("the console", protocol))
            hand_over(row, CONSOLE, time.time())
            audit(
                session,
                who.name,
                "host.remote",
                name,
                protocol=protocol,
                address=address,
                port=row.port,
                site=row.site,
                credential=credential,
                moved_from=before if moved else "",
                host_key="asked anew" if body.accept_host_key or moved else "as before",
            )

        self._state.write(write)
        self._directory.refresh(known.id)
        self._access.forget_host(known.id)
        self.changed.tell(name)

    def _known(self, name: str) -> Known:
        known = self._directory.find(name)
        if known is None or known.retired:
            raise unknown("host", name)
        return known

    def settle_owners(self) -> list[int]:
        """Gives every remote host to whom it belongs now; answers the hosts that changed hands."""

        def write(session: Session) -> list[int]:
            moved = []
            rows = session.execute(
                select(tables.Remote, tables.Host).join(tables.Host).where(tables.Host.mode == "remote")
            )
            for row, host in rows:
                owner = self._relays.owner_of(row)
                words = by_words(self._relays.name_of(owner), row.protocol)
                if owner != row.owner:
                    hand_over(row, owner, time.time())
                if host.collected_by != words:
                    host.collected_by = words
                    moved.append(host.id)
            return moved

        moved = self._state.write(write)
        if moved:
            self._directory.refresh(*moved)
        return moved

    def targets(self, owner: int) -> list[RemoteTarget]:
        """All that this owner has to read. A host whose credential is lost is left out, and says so."""
        settings = self._settings.collection()

        def read(session: Session) -> list[tables.Remote]:
            query = (
                select(tables.Remote)
                .join(tables.Host)
                .where(tables.Host.mode == "remote", tables.Host.retired_at.is_(None), tables.Remote.owner == owner)
            )
            return list(session.scalars(query))

        found = []
        secrets: dict[str, Any] = {}
        for row in self._state.read(read):
            known = self._directory.get(row.host)
            if known is None:
                continue
            try:
                if row.credential not in secrets:
                    secrets[row.credential] = self._credentials.secret(row.credential)
                found.append(self._target(known, row, settings, secrets[row.credential]))
            except Refused as error:
                known.problem = error.detail
        return found

    def _target(self, known: Known, row: tables.Remote, settings: CollectionSettings, credential: Any) -> RemoteTarget:
        plan = self._plans.from_afar(known)
        return RemoteTarget(
            host_id=known.id,
            host=known.name,
            protocol=row.protocol,  # type: ignore[arg-type]
            address=row.address,
            port=row.port,
            credential=credential,
            every=row.every or plan.every or seconds(settings.every),
            time_limit=row.time_limit or seconds(settings.time_limit),
            host_key=row.host_key,
            follow=plan.follow,
            off=plan.off,
            inventory_every=plan.inventory_every,
            refresh=plan.refresh,
            positions={path: FilePlace(*p) for path, p in row.positions.items()},
        )

    def users_of(self, credential: str) -> list[RemoteTarget]:
        """The hosts read with a credential, as targets, whoever reads them."""
        settings = self._settings.collection()
        query = (
            select(tables.Remote)
            .join(tables.Host)
            .where(tables.Remote.credential == credential, tables.Host.mode == "remote")
        )
        rows = self._state.read(lambda s: list(s.scalars(query)))
        secret = self._credentials.secret(credential) if rows else None
        return [self._target(known, row, settings, secret) for row in rows if (known := self._directory.get(row.host))]

    def owner_of(self, known: Known) -> int:
        """Who reads a host from afar: a relay by its number, or the console."""
        owner = select(tables.Remote.owner).where(tables.Remote.host == known.id)
        return self._state.read(lambda s: s.scalar(owner)) or CONSOLE

    def by_ssh(self, known: Known) -> RemoteTarget | None:
        """How a host is read over SSH; None when it is not, or its credential is lost."""
        row = self._state.read(lambda s: s.get(tables.Remote, known.id))
        if row is None or row.protocol != "ssh" or known.mode != "remote":
            return None
        try:
            secret = self._credentials.secret(row.credential)
        except Refused:
            return None
        return self._target(known, row, self._settings.collection(), secret)

    def note(self, host: int, *, key: str = "", positions: dict[str, FilePlace] | None = None) -> None:
        """Keeps the key that a host showed first, and how far its files are read."""

        def write(session: Session) -> None:
            row = session.get(tables.Remote, host)
            if row is None:
                return
            if key and not row.host_key.startswith("ssh-"):
                row.host_key = key
            if positions:
                row.positions = {**row.positions, **{path: list(p) for path, p in positions.items()}}

        self._state.write(write)


def set_mode(session: Session, host: tables.Host, mode: str, by: str) -> None:
    """Changes who collects a host. Who had it before may not deliver for it any more; all history stays."""
    host.mode, host.collected_by = mode, by
    if mode == "remote":
        session.execute(delete(tables.Token).where(tables.Token.host == host.id))


def shown_key(key: str) -> str:
    """The fingerprint of a pinned key."""
    from balise.collect.remote.ssh_connection import fingerprint

    return fingerprint(key)
