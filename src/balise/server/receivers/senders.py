"""Who speaks to receivers: as which host its events are kept, and those that nobody enrolled."""

from __future__ import annotations

import json
import threading
import time
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from balise.api.agents import Candidate
from balise.api.hosts import Facts
from balise.api.spans import rfc3339
from balise.core.events.new_event import NewEvent
from balise.server.errors import Refused, unknown
from balise.server.hosts.directory import Directory, Known, clean_name
from balise.server.people.access import audit
from balise.store.state import tables
from balise.store.state.store import StateStore

PEER, NAMED_BY = "network.peer.address", "balise.named.by"
MOST_NAMED, MOST_HEARD, MOST_SENDERS, MOST_ENDED = 20_000, 20_000, 2_000, 500
NamedBy = Literal["name", "address"]


@dataclass
class Heard:
    """What a host said to one receiver, since the service began."""

    receiver: str
    host: str
    address: str
    named_by: NamedBy
    lines: int = 0
    refused: int = 0
    unwritten: int = 0
    last_at: float = 0.0


@dataclass(frozen=True)
class _Named:
    """How events of an address and a name are kept: `more` is what their attributes end with."""

    host: str
    more: str
    heard: Heard
    whole: dict[str | None, str]
    """Attributes that were met, with what they end with: they come again and again."""
    known: int | None
    refused: bool


class SenderBook:
    """Gives events their hosts, and keeps who is no host yet. A name may be any host's: the address stays with it."""

    def __init__(self, *, state: StateStore, directory: Directory) -> None:
        self._state = state
        self._directory = directory
        self._lock = threading.Lock()
        self._named: OrderedDict[tuple[str, str, str], _Named] = OrderedDict()
        self._heard: OrderedDict[tuple[str, str], Heard] = OrderedDict()
        self._version = -1
        self.came = False
        """Whether somebody came whom nobody knows, and who is not kept yet."""
        self._refused = set(state.read(lambda s: s.scalars(select(tables.Sender.name).where(tables.Sender.refused))))

    # --- events

    def named(self, receiver: str, address: str, events: Sequence[NewEvent]) -> list[NewEvent]:
        """The events under the names of their hosts; those of a sender that was refused are left out."""
        now = time.time()
        found: list[NewEvent] = []
        with self._lock:
            if self._version != self._directory.version:
                self._version = self._directory.version
                self._named.clear()
            for event in events:
                key = (receiver, address, event.host)
                named = self._named.get(key) or self._name(key)
                heard = named.heard
                heard.last_at = now
                if named.refused:
                    heard.refused += 1
                    continue
                heard.lines += 1
                heard.unwritten += 1
                time_, _, severity, source, body, packed = event
                attributes = named.whole.get(packed) or _ended(named, packed)
                found.append(NewEvent(time_, named.host, severity, source, body, attributes))
        return found

    def _name(self, key: tuple[str, str, str]) -> _Named:
        receiver, address, said = key
        known, by = self._host(said, address)
        host = known.name if known else clean_name(said) or clean_name(address) or "unknown"
        more = json.dumps({PEER: address, NAMED_BY: by}, separators=(",", ":"))[1:]
        heard = self._heard.get((receiver, host))
        if heard is None:
            heard = self._heard[receiver, host] = Heard(receiver, host, address, by)
            self.came = self.came or known is None
            if len(self._heard) > MOST_HEARD:
                self._heard.popitem(last=False)
        number = known.id if known else None
        named = self._named[key] = _Named(host, more, heard, {}, number, known is None and host in self._refused)
        if len(self._named) > MOST_NAMED:
            self._named.popitem(last=False)
        return named

    def _host(self, said: str, address: str) -> tuple[Known | None, NamedBy]:
        """The host of a name, of the name before its domain, or of the address when no name was said."""
        name = clean_name(said)
        if name and name != address:
            found = self._directory.find(name) or self._directory.find(name.partition(".")[0])
            return (found if found and not found.retired else None), "name"
        for one in self._directory.all():
            if address in one.facts.get("addresses", ()):
                return one, "address"
        found = self._directory.find(address)
        return (found if found and not found.retired else None), "address"

    def heard(self) -> list[Heard]:
        """What each host said to each receiver, since the service began."""
        with self._lock:
            return list(self._heard.values())

    # --- who is no host yet

    def write(self) -> None:
        """Keeps who speaks and is no host, with how much it says, and says of hosts when they were heard."""
        now = time.time()
        self.came = False
        with self._lock:
            due = [(one, one.unwritten) for one in self._heard.values() if one.unwritten]
        strangers: list[tuple[Heard, int]] = []
        for one, count in due:
            known = self._directory.find(one.host)
            if known is None:
                strangers.append((one, count))
            elif known.mode == "received":
                self._directory.heard(known.id, one.last_at, now)
        if strangers:
            self._state.write(lambda s: self._keep(s, strangers))
        with self._lock:
            for one, count in due:
                one.unwritten -= count

    @staticmethod
    def _keep(session: Session, strangers: Sequence[tuple[Heard, int]]) -> None:
        room = MOST_SENDERS - (session.scalar(select(func.count(tables.Sender.id))) or 0)
        for heard, count in strangers:
            row = session.scalar(select(tables.Sender).where(tables.Sender.name == heard.host))
            if row is None:
                if room <= 0:
                    continue
                room -= 1
                row = tables.Sender(name=heard.host, events=0, first_at=heard.last_at, refused=False)
                row.named_by = heard.named_by
                session.add(row)
            row.address, row.receiver, row.last_at = heard.address, heard.receiver, heard.last_at
            row.events += count

    def candidates(self) -> list[Candidate]:
        """Who speaks to receivers and is no host, those that say most first."""
        self.write()
        rows = self._state.read(
            lambda s: list(
                s.scalars(select(tables.Sender).order_by(tables.Sender.refused, tables.Sender.events.desc()))
            )
        )
        return [_candidate(row) for row in rows if self._directory.find(row.name) is None]

    def let_in(self, number: int, who: str, name: str | None) -> str:
        """Makes a sender a host; answers its name. Its events so far are of that host when it keeps its own name.

        Raises:
            Refused: 404 when there is no such sender, 409 when a host has the name.
        """

        def write(session: Session) -> tuple[str, int]:
            row = session.get(tables.Sender, number)
            if row is None:
                raise unknown("sender", number)
            called = clean_name(name or row.name)
            if session.scalar(select(tables.Host.id).where(tables.Host.name == called)):
                raise Refused(409, f"There is a host {called!r} already: give another name.")
            facts = Facts(host_name=called, addresses=[row.address]).model_dump()
            host = tables.Host(name=called, created_at=time.time(), state_since=time.time(), state="ok", facts=facts)
            host.last_seen, host.mode = row.last_at, "received"
            session.add(host)
            session.delete(row)
            session.flush()
            audit(session, who, "sender.let-in", called, address=row.address)
            return called, host.id

        called, host = self._state.write(write)
        self._directory.refresh(host)
        self._refused.discard(called)
        return called

    def refuse(self, number: int, who: str) -> str:
        """Keeps nothing more of what a sender says; answers its name. Raises Refused 404 when there is none."""

        def write(session: Session) -> str:
            row = session.get(tables.Sender, number)
            if row is None:
                raise unknown("sender", number)
            row.refused = True
            audit(session, who, "sender.refuse", row.name, address=row.address)
            return row.name

        name = self._state.write(write)
        with self._lock:
            self._refused.add(name)
            self._named.clear()
        return name

    def forget(self, days: float) -> None:
        """Lets go of senders not heard for so many days."""
        oldest = time.time() - days * 86_400
        self._state.write(lambda s: s.execute(delete(tables.Sender).where(tables.Sender.last_at < oldest)))


def _ended(named: _Named, packed: str | None) -> str:
    whole = f"{packed[:-1]},{named.more}" if packed and packed != "{}" else "{" + named.more
    if len(named.whole) >= MOST_ENDED:
        named.whole.clear()
    named.whole[packed] = whole
    return whole


def _candidate(row: tables.Sender) -> Candidate:
    return Candidate(
        id=row.id,
        kind="sender",
        name=row.name,
        facts=Facts(host_name=row.name, addresses=[row.address]),
        key="",
        origin=row.address,
        asked_at=rfc3339(row.first_at),
        receiver=row.receiver,
        named_by="name" if row.named_by == "name" else "address",
        events=row.events,
        last_at=rfc3339(row.last_at),
        refused=row.refused,
    )
