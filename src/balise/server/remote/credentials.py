"""Credentials: kept encrypted, used by name, never shown again."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Iterable
from typing import Any

from pydantic import TypeAdapter
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from balise.api.credentials import Credential as CredentialAnswer
from balise.api.credentials import CredentialBody, SshCredential
from balise.api.secrets import REVEALED, Secret
from balise.api.spans import rfc3339
from balise.server.errors import Refused, bad_field, unknown
from balise.server.people.access import Principal, audit
from balise.store.state import tables
from balise.store.state.secrets import Sealer
from balise.store.state.store import StateStore

_USED_IN = (
    tables.Remote.credential,
    tables.Service.credential,
    tables.Probe.credential,
    tables.Forward.credential,
)
_ANY: TypeAdapter[Any] = TypeAdapter(CredentialBody)


class CredentialBook:
    """All credentials. Whoever needs the secret of one asks for it by name, for one use."""

    def __init__(self, state: StateStore, sealer: Sealer) -> None:
        self._state = state
        self._sealer = sealer

    def all(self) -> list[CredentialAnswer]:
        def read(session: Session) -> list[CredentialAnswer]:
            used: Counter[str] = Counter()
            for column in _USED_IN:
                counts = select(column, func.count()).where(column.is_not(None)).group_by(column)
                used.update({name: count for name, count in session.execute(counts) if name})
            rows = session.scalars(select(tables.Credential).order_by(tables.Credential.name))
            return [_answer(row, used.get(row.name, 0)) for row in rows]

        return self._state.read(read)

    def get(self, name: str) -> CredentialAnswer:
        found = next((c for c in self.all() if c.name == name), None)
        if found is None:
            raise unknown("credential", name)
        return found

    def secret(self, name: str) -> Any:
        """The credential with its secret, for a collector.

        Raises:
            Refused: 404 when there is none of that name, 409 when it cannot be decrypted.
        """
        row = self._state.read(lambda s: s.get(tables.Credential, name))
        if row is None:
            raise unknown("credential", name)
        try:
            return _ANY.validate_json(self._sealer.open(row.secret))
        except RuntimeError as error:
            raise Refused(409, f"The credential {name!r} cannot be used: {error}.") from None

    def usable(self, name: str, who: Principal, group: str | None, groups_above: Iterable[str] = ()) -> None:
        """Raises Refused 403 unless this person may use it for a host of this group."""
        row = self._state.read(lambda s: s.get(tables.Credential, name))
        if row is None:
            raise bad_field("credential", f"there is none called {name!r}: make it first (balise credential set)")
        if not who.may(row.role):
            raise Refused(403, f"The credential {name!r} is for the role {row.role}; {who.name!r} is {who.role}.")
        if row.groups and not set(row.groups) & {group, *groups_above}:
            raise Refused(
                403, f"The credential {name!r} is for hosts of {', '.join(row.groups)}: name one of these groups."
            )

    def put(self, name: str, body: Any, who: str) -> CredentialAnswer:
        """Keeps a credential; an older one of the name is replaced."""
        settings = _settings(body)

        def write(session: Session) -> tables.Credential:
            row = session.get(tables.Credential, name)
            if row is not None and row.kind != body.kind and _users(session, name):
                raise Refused(409, f"{name!r} is used and of kind {row.kind}: give the new one a name of its own.")
            if row is None:
                row = tables.Credential(name=name)
                session.add(row)
            row.kind, row.settings, row.role, row.groups = body.kind, settings, body.role, list(body.groups)
            row.secret = self._sealer.seal(body.model_dump_json(context=REVEALED))
            row.updated_at, row.updated_by = time.time(), who
            session.flush()
            audit(session, who, "credential.put", name, kind=body.kind)
            return row

        self._state.write(write)
        return self.get(name)

    def delete(self, name: str, who: str) -> None:
        """Raises Refused 409 while hosts are collected with it."""

        def write(session: Session) -> None:
            row = session.get(tables.Credential, name)
            if row is None:
                raise unknown("credential", name)
            users = _users(session, name)
            if users:
                raise Refused(
                    409,
                    f"{name!r} is used by {len(users)} ({', '.join(users[:5])}): give them another one first.",
                )
            session.delete(row)
            audit(session, who, "credential.delete", name)

        self._state.write(write)


def _users(session: Session, name: str) -> list[str]:
    """The hosts, services, probes and forwards that are read with a credential, by what they are called."""
    hosts = select(tables.Host.name).join(tables.Remote).where(tables.Remote.credential == name)
    services = select(tables.Service.name, tables.Host.name).join(tables.Host).where(tables.Service.credential == name)
    probes = select(tables.Probe.name).where(tables.Probe.credential == name)
    found = list(session.scalars(hosts))
    found += [f"{service} of {host}" for service, host in session.execute(services)]
    found += [f"the probe {probe}" for probe in session.scalars(probes)]
    forwards = select(tables.Forward.name).where(tables.Forward.credential == name)
    found += [f"the forward {forward}" for forward in session.scalars(forwards)]
    return sorted(found)


def _settings(body: Any) -> dict[str, Any]:
    """What of a credential may be shown.

    Raises:
        Refused: 422 when its private key cannot be read.
    """
    if isinstance(body, SshCredential):
        shown: dict[str, Any] = {"user": body.user, "by": "key" if body.private_key else "password"}
        if body.private_key:
            shown |= _key_settings(body.private_key, body.passphrase)
        return shown
    shown = body.model_dump(include={"user", "version"}, exclude_none=True)
    for part in ("auth", "privacy"):
        held = getattr(body, part, None)
        if held is not None:
            shown[part] = held.protocol
    return shown


def _key_settings(private_key: Secret, passphrase: Secret | None) -> dict[str, str]:
    import asyncssh

    try:
        key = asyncssh.import_private_key(private_key.reveal(), passphrase.reveal() if passphrase else None)
    except asyncssh.KeyEncryptionError:
        raise bad_field("passphrase", "the private key is encrypted: give the passphrase that opens it") from None
    except (asyncssh.KeyImportError, ValueError):
        raise bad_field("private_key", "this is no private key in OpenSSH or PEM form") from None
    return {"public_key": key.export_public_key("openssh").decode().strip(), "fingerprint": key.get_fingerprint()}


def _answer(row: tables.Credential, used_by: int) -> CredentialAnswer:
    return CredentialAnswer(
        name=row.name,
        kind=row.kind,  # type: ignore[arg-type]
        settings=row.settings,
        role=row.role,  # type: ignore[arg-type]
        groups=row.groups,
        used_by=used_by,
        updated_at=rfc3339(row.updated_at),
        updated_by=row.updated_by,
    )
