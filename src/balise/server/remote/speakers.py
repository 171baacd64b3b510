"""Whom relays speak for."""

from __future__ import annotations

import time

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.hosts import NOBODYS
from balise.api.relays import SITES_SUMS, Frame, Sender
from balise.core.moments import seconds_of
from balise.server.errors import Refused
from balise.server.hosts.directory import Directory, clean_name
from balise.server.people.access import Principal, principal_of
from balise.server.remote.owners import owner_at
from balise.server.remote.relays import KnownRelay, RelayBook
from balise.store.state import tables
from balise.store.state.store import StateStore


class Speakers:
    """Tells whom a relay may speak for, and whom what it forwards is from."""

    def __init__(self, *, state: StateStore, directory: Directory, relays: RelayBook) -> None:
        self._state = state
        self._directory = directory
        self._relays = relays

    def senders(self, relay: int, digests: list[str]) -> dict[str, Sender | None]:
        """Whom tokens stand for. Having shown one, the relay may speak for its owner from now on."""

        def read(session: Session) -> dict[str, Sender | None]:
            rows = session.scalars(select(tables.Token).where(tables.Token.digest.in_(digests)))
            now = time.time()
            good = {r.digest: r for r in rows if r.relay is None and (r.expires_at is None or r.expires_at > now)}
            return {d: _sender(good[d]) if d in good else None for d in digests}

        found = self._state.read(read)
        known = self._relays.by_number(relay)
        fresh = {s.sender for s in found.values() if s and s.role != "viewer"} - known.senders
        if fresh:
            self._state.write(
                lambda s: s.add_all(tables.RelaySender(relay=relay, sender=sender) for sender in sorted(fresh))
            )
            known.senders |= fresh
        return found

    def speaker(self, relay: int, frame: Frame) -> Principal:
        """Whom a frame is from.

        Raises:
            Refused: 403 when the relay may not speak for them, 409 when another collector had the host then.
        """
        known = self._relays.find(relay)
        kind, _, what = frame.sender.partition(":")
        if known is None:
            raise Refused(403, "this relay is not known any more: enrol it again")
        if kind == "remote" and what.isdecimal():
            return self._collected(relay, int(what), seconds_of(frame.at))
        if kind == "service" and what.isdecimal():
            return self._read_service(relay, int(what), seconds_of(frame.at))
        if frame.sender == SITES_SUMS:
            return self._site(known)
        if frame.sender not in known.senders:
            raise Refused(403, f"this relay never showed a token of {frame.sender}")
        if kind == "host" and what.isdecimal():
            host = self._directory.get(int(what))
            if host is None or host.retired:
                raise Refused(403, "the host is retired or gone")
            return Principal(f"agent of {host.name}", "agent", host.id)
        return self._token(what)

    def _site(self, relay: KnownRelay) -> Principal:
        """Who has the sums of a relay's site: a host that stands for it, made when the first of them comes."""
        name = clean_name(f"site.{relay.site}" if relay.site else f"relay.{relay.name}")
        if self._directory.find(name) is None:
            self._directory.ensure_all([(name, None, None)])
        host = self._directory.find(name)
        if host is None or host.retired or host.mode not in NOBODYS:
            raise Refused(403, f"sums are kept as of the host {name}, which is retired, collected or not to be made")
        return Principal(f"relay {relay.name}", "agent", host.id)

    def _token(self, what: str) -> Principal:
        """Whom the token of a sender stands for, as long as it was not revoked."""
        number, _, name = what.partition(":")
        by_name = select(tables.Token).where(tables.Token.name == what).order_by(tables.Token.id.desc()).limit(1)

        def find(session: Session) -> tables.Token | None:
            row = session.get(tables.Token, int(number)) if number.isdecimal() else None
            # What a relay kept before tokens were told apart by number names them alone.
            return row if row is not None and row.name == name else session.scalar(by_name)

        row = self._state.read(find)
        if row is None:
            raise Refused(403, f"the token {name or what} is revoked")
        return principal_of(row)

    def _collected(self, relay: int, number: int, at: float) -> Principal:
        host = self._directory.get(number)
        row = self._state.read(lambda s: s.get(tables.Remote, number))
        if host is None or host.retired or row is None:
            raise Refused(403, "the host is retired or gone")
        owner = owner_at(row, at)
        if owner != relay:
            raise Refused(409, f"{host.name} was read by {self._relays.name_of(owner)} at that time")
        return Principal(f"remote {host.name}", "agent", host.id)

    def _read_service(self, relay: int, number: int, at: float) -> Principal:
        row = self._state.read(lambda s: s.get(tables.Service, number))
        host = self._directory.get(row.host) if row is not None else None
        if row is None or host is None or host.retired:
            raise Refused(403, "the service is gone")
        owner = owner_at(row, at)
        if owner != relay:
            raise Refused(409, f"{row.name} of {host.name} was read by {self._relays.name_of(owner)} at that time")
        return Principal(f"remote {host.name}", "agent", host.id)


def _sender(row: tables.Token) -> Sender:
    if row.host is not None:
        return Sender(sender=f"host:{row.host}", name=row.name, role=row.role)
    return Sender(sender=f"token:{row.id}:{row.name}", name=row.name, role=row.role)
