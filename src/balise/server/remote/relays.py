"""Relays: who they are, whom they may speak for, and which of them has what its site reads."""

from __future__ import annotations

import hashlib
import time
from dataclasses import dataclass, field

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from balise.api.relays import ReceiverTurn, RelayEnrol, RelayEnrolled, RelayReport
from balise.api.relays import Relay as RelayAnswer
from balise.api.spans import rfc3339
from balise.server.errors import Refused, unknown
from balise.server.hosts.directory import Directory
from balise.server.hosts.groups import group_row
from balise.server.people.access import Access, audit
from balise.server.people.keys import usable_key
from balise.server.remote.owners import CONSOLE
from balise.server.signals import Signal
from balise.store.state import tables
from balise.store.state.secrets import digest, new_token
from balise.store.state.store import StateStore

GONE_AFTER = 60.0
"""Seconds without a word after which the other relays of a site take over."""


@dataclass
class KnownRelay:
    """A relay in memory."""

    id: int
    name: str
    site: str | None
    last_seen: float | None
    report: RelayReport | None = None
    senders: set[str] = field(default_factory=set)

    def is_alive(self, now: float) -> bool:
        """Whether it was heard lately."""
        return self.last_seen is not None and now - self.last_seen < GONE_AFTER

    def heard(self) -> None:
        """It said something just now."""
        self.last_seen = time.time()


class RelayBook:
    """All relays."""

    def __init__(self, *, state: StateStore, directory: Directory, access: Access) -> None:
        self._state = state
        self._directory = directory
        self._access = access
        self._relays: dict[int, KnownRelay] = {}
        self._began = 0.0
        self.changed = Signal[None]("relays")
        """There is a relay more, or one less."""
        self._load()

    def _load(self) -> None:
        def read(session: Session) -> tuple[list[tables.Relay], list[tables.RelaySender]]:
            return list(session.scalars(select(tables.Relay))), list(session.scalars(select(tables.RelaySender)))

        relays, senders = self._state.read(read)
        known = self._relays
        self._relays = {r.id: known.get(r.id) or KnownRelay(r.id, r.name, r.site, r.last_seen) for r in relays}
        for row in relays:
            self._relays[row.id].site = row.site
        for one in senders:
            if one.relay in self._relays:
                self._relays[one.relay].senders.add(one.sender)

    def begin(self) -> None:
        """Relays are given time to find their console again from now on."""
        self._began = time.time()

    # --- who they are

    def enrol(self, request: RelayEnrol) -> RelayEnrolled:
        """Trades a key for a relay's identity; the same machine keeps the one it had.

        Raises:
            Refused: 403 as for an agent's key, 409 when another machine is the relay of this name.
        """
        token = new_token("rly")
        now = time.time()

        def write(session: Session) -> tables.Relay:
            key = usable_key(session, request.key.reveal())
            if key.approval == "manual":
                raise Refused(403, "This key asks for approval of every machine: make one with automatic approval.")
            row = session.scalar(select(tables.Relay).where(tables.Relay.name == request.name))
            if row is not None and row.machine_id != request.facts.machine_id:
                raise Refused(409, f"Another machine is the relay {request.name!r}: choose another --name.")
            if row is None:
                row = tables.Relay(name=request.name, created_at=now)
                session.add(row)
            row.site = _site_by(key, request.site or row.site)
            row.machine_id, row.enrolled_with, row.last_seen = request.facts.machine_id, key.id, now
            key.uses_left -= 1
            session.flush()
            if row.site:
                _make_site(session, row.site)
            session.execute(delete(tables.Token).where(tables.Token.relay == row.id))
            session.add(
                tables.Token(name=f"relay {row.name}", role="relay", digest=digest(token), relay=row.id, created_at=now)
            )
            audit(session, f"key {key.label}", "relay.enrol", row.name, site=row.site)
            return row

        row = self._state.write(write)
        self._load()
        self._relays[row.id].last_seen = now
        self._directory.reload()
        self._access.forget_remembered()
        self.changed.tell(None)
        return RelayEnrolled(relay=row.name, relay_id=row.id, site=row.site, token=token)

    def all(self) -> list[RelayAnswer]:
        now = time.time()
        return [
            RelayAnswer(
                name=r.name,
                site=r.site,
                state="ok" if r.is_alive(now) else "silent",
                last_seen=rfc3339(r.last_seen) if r.last_seen else None,
                behind=sum(s.startswith("host:") for s in r.senders),
                remote_hosts=r.report.remote_hosts if r.report else 0,
                report=r.report.model_dump(exclude={"turns", "service_turns"}) if r.report else None,
            )
            for r in sorted(self._relays.values(), key=lambda r: r.name)
        ]

    def behind(self, number: int) -> list[int]:
        """The hosts whose agents deliver through a relay."""
        found = self._relays.get(number)
        senders = found.senders if found is not None else ()
        return [int(one[5:]) for one in list(senders) if one.startswith("host:")]

    def remove(self, name: str, who: str) -> None:
        """The relay may not forward any more; its hosts go to the others of its site, or to the console."""
        found = next((r for r in self._relays.values() if r.name == name), None)
        if found is None:
            raise unknown("relay", name)

        def write(session: Session) -> None:
            session.execute(delete(tables.Token).where(tables.Token.relay == found.id))
            session.delete(session.get_one(tables.Relay, found.id))
            audit(session, who, "relay.remove", name)

        self._state.write(write)
        del self._relays[found.id]
        self._access.forget_remembered()
        self.changed.tell(None)

    # --- who has what

    def owner_of(self, row: tables.Remote | tables.Service) -> int:
        """The relay that has a host now: of those of its site that are alive, always the same one.

        While none is alive the one that had it keeps it, because it may well go on reading.
        """
        at_site = [r for r in self._relays.values() if row.site is not None and r.site == row.site]
        if not at_site:
            return CONSOLE
        now = time.time()
        if now - self._began < GONE_AFTER and any(r.id == row.owner for r in at_site):
            # After a start relays first have to find their console again: until then nothing changes hands.
            return row.owner
        alive = [r for r in at_site if r.is_alive(now)]
        if not alive:
            return row.owner if row.owner in self._relays else at_site[0].id
        return max(alive, key=lambda r: hashlib.sha256(f"{r.name} {row.host}".encode()).digest()).id

    def name_of(self, owner: int) -> str:
        known = self._relays.get(owner)
        return f"the relay {known.name}" if known else "the console"

    def warnings(self, _now: float) -> list[str]:
        """What has to be known of those that lost something."""
        dropped = [(r.name, r.report.dropped) for r in self._relays.values() if r.report and r.report.dropped]
        return [f"the relay {name} has dropped {count} requests: its buffer was full" for name, count in dropped]

    def find(self, relay: int) -> KnownRelay | None:
        return self._relays.get(relay)

    def by_number(self, relay: int) -> KnownRelay:
        return self._relays[relay]

    def at_site(self, site: str) -> list[KnownRelay]:
        """Those of a site that are alive."""
        now = time.time()
        return [r for r in self._relays.values() if r.site == site and r.is_alive(now)]

    def receivers(self, name: str) -> list[ReceiverTurn]:
        """How the receivers of a relay go, as it told last."""
        found = next((relay for relay in self._relays.values() if relay.name == name), None)
        return list(found.report.receivers) if found is not None and found.report is not None else []

    def names(self) -> set[str]:
        return {relay.name for relay in self._relays.values()}

    # --- what they tell

    def noted(self, relay: int, report: RelayReport) -> bool:
        """Keeps what a relay said of itself; whether it had been gone."""
        known = self._relays[relay]
        was_gone = not known.is_alive(time.time())
        known.last_seen, known.report = time.time(), report
        return was_gone

    def write_seen(self) -> None:
        """Keeps when they were heard, for after a restart."""
        seen = {r.id: r.last_seen for r in self._relays.values()}

        def write(session: Session) -> None:
            for number, at in seen.items():
                row = session.get(tables.Relay, number)
                if row is not None:
                    row.last_seen = at

        if seen:
            self._state.write(write)


def _make_site(session: Session, name: str) -> None:
    group_row(session, name).kind = "site"


def _site_by(key: tables.EnrolmentKey, wanted: str | None) -> str | None:
    """The site of a relay that comes with a key. A relay is given what its site's hosts are read with, so that only a
    key that was made for a site gives it."""
    if wanted is not None and wanted != key.site:
        said = f"is for the site {key.site!r}" if key.site else "is for no site"
        raise Refused(403, f"This key {said}: make one for {wanted!r} (balise key create --site {wanted}).")
    return key.site
