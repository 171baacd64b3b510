"""Relays: who they are, whom they may speak for, what they are to read, and who takes over when one is gone."""

from __future__ import annotations

import asyncio
import hashlib
import itertools
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Protocol

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from balise.api.hosts import Facts
from balise.api.probes import ProbeResult, ProbeTarget
from balise.api.relays import (
    Frame,
    RelayEnrol,
    RelayEnrolled,
    RelayReport,
    RelayWork,
    Sender,
    TrialAnswer,
    TrialRequest,
)
from balise.api.relays import Relay as RelayAnswer
from balise.api.remote import RemoteTarget
from balise.api.secrets import REVEALED
from balise.api.services import ServiceTurn
from balise.api.spans import rfc3339
from balise.collect.remote.trial import Trial
from balise.server.errors import Refused, unknown
from balise.server.hosts.directory import Directory
from balise.server.people.access import Principal, audit, principal_of
from balise.server.people.keys import usable_key
from balise.server.remote.work import CONSOLE, RemoteBook, owner_at
from balise.store.state import tables
from balise.store.state.secrets import digest, new_token
from balise.store.state.store import StateStore

GONE_AFTER = 60.0
"""Seconds without a word after which the other relays of a site take over."""
TRIAL_GRACE = 15.0
"""Seconds that a trial may take beyond its own time limit, on the way to the relay and back."""


class ReadServices(Protocol):
    """The services that relays read."""

    def targets(self, owner: int) -> list[RemoteTarget]: ...

    def owned(self, number: int) -> tables.Service | None: ...

    def settle_owners(self) -> bool: ...

    def note(self, number: int, turn: ServiceTurn) -> None: ...


class MadeProbes(Protocol):
    """The probes that relays make."""

    def targets(self, place: str) -> list[ProbeTarget]: ...

    def heard(self, place: str, name: str, result: ProbeResult) -> None: ...


@dataclass
class _Known:
    """A relay in memory."""

    id: int
    name: str
    site: str | None
    last_seen: float | None
    report: RelayReport | None = None
    etag: str = ""
    trials: dict[int, TrialRequest] = field(default_factory=dict)
    senders: set[str] = field(default_factory=set)


class RelayBook:
    """All relays."""

    def __init__(self, state: StateStore, directory: Directory, remote: RemoteBook) -> None:
        self._state = state
        self._directory = directory
        self._remote = remote
        self._relays: dict[int, _Known] = {}
        self._trials: dict[int, asyncio.Future[Trial]] = {}
        self._numbers = itertools.count(1)
        self._changed: asyncio.Event | None = None
        self._stopped = False
        self._started = 0.0
        self.services: ReadServices | None = None
        self.probes: MadeProbes | None = None
        self._ever = True
        """Whether there may be hosts that a relay had: without any, everything is the console's."""
        self._loop: asyncio.AbstractEventLoop | None = None
        self.on_facts: Callable[[int, Facts], None] = lambda _host, _facts: None
        self.on_moved: Callable[[], None] = lambda: None
        self._load()
        remote.owner_of, remote.name_of = self.owner_of, self.name_of

    def _load(self) -> None:
        def read(session: Session) -> tuple[list[tables.Relay], list[tables.RelaySender]]:
            return list(session.scalars(select(tables.Relay))), list(session.scalars(select(tables.RelaySender)))

        relays, senders = self._state.read(read)
        known = self._relays
        self._relays = {r.id: known.get(r.id) or _Known(r.id, r.name, r.site, r.last_seen) for r in relays}
        for row in relays:
            self._relays[row.id].site = row.site
        for one in senders:
            if one.relay in self._relays:
                self._relays[one.relay].senders.add(one.sender)

    def start(self, loop: asyncio.AbstractEventLoop) -> None:
        self._loop = loop
        self._changed = asyncio.Event()
        self._started = time.time()

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
        self.settle()
        return RelayEnrolled(relay=row.name, relay_id=row.id, site=row.site, token=token)

    def all(self) -> list[RelayAnswer]:
        now = time.time()
        return [
            RelayAnswer(
                name=r.name,
                site=r.site,
                state="ok" if self._is_alive(r, now) else "silent",
                last_seen=rfc3339(r.last_seen) if r.last_seen else None,
                behind=sum(s.startswith("host:") for s in r.senders),
                remote_hosts=r.report.remote_hosts if r.report else 0,
                report=r.report.model_dump(exclude={"turns", "service_turns"}) if r.report else None,
            )
            for r in sorted(self._relays.values(), key=lambda r: r.name)
        ]

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
        self.settle()

    # --- whom they may speak for

    def senders(self, relay: int, digests: list[str]) -> dict[str, Sender | None]:
        """Whom tokens stand for. Having shown one, the relay may speak for its owner from now on."""

        def read(session: Session) -> dict[str, Sender | None]:
            rows = session.scalars(select(tables.Token).where(tables.Token.digest.in_(digests)))
            now = time.time()
            good = {r.digest: r for r in rows if r.relay is None and (r.expires_at is None or r.expires_at > now)}
            return {d: _sender(good[d]) if d in good else None for d in digests}

        found = self._state.read(read)
        known = self._relays[relay]
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
        known = self._relays.get(relay)
        kind, _, what = frame.sender.partition(":")
        if known is None:
            raise Refused(403, "this relay is not known any more: enrol it again")
        if kind == "remote" and what.isdecimal():
            return self._collected(relay, int(what), frame.at / 1e9)
        if kind == "service" and what.isdecimal():
            return self._read_service(relay, int(what), frame.at / 1e9)
        if frame.sender not in known.senders:
            raise Refused(403, f"this relay never showed a token of {frame.sender}")
        if kind == "host" and what.isdecimal():
            host = self._directory.get(int(what))
            if host is None or host.retired:
                raise Refused(403, "the host is retired or gone")
            return Principal(f"agent of {host.name}", "agent", host.id)
        return self._token(what)

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
            raise Refused(409, f"{host.name} was read by {self.name_of(owner)} at that time")
        return Principal(f"remote {host.name}", "agent", host.id)

    def _read_service(self, relay: int, number: int, at: float) -> Principal:
        row = self.services.owned(number) if self.services is not None else None
        host = self._directory.get(row.host) if row is not None else None
        if row is None or host is None or host.retired:
            raise Refused(403, "the service is gone")
        owner = owner_at(row, at)
        if owner != relay:
            raise Refused(409, f"{row.name} of {host.name} was read by {self.name_of(owner)} at that time")
        return Principal(f"remote {host.name}", "agent", host.id)

    # --- what they are to read

    def _is_alive(self, relay: _Known, now: float) -> bool:
        return relay.last_seen is not None and now - relay.last_seen < GONE_AFTER

    def owner_of(self, row: tables.Remote | tables.Service) -> int:
        """The relay that has a host now: of those of its site that are alive, always the same one.

        While none is alive the one that had it keeps it, because it may well go on reading.
        """
        at_site = [r for r in self._relays.values() if row.site is not None and r.site == row.site]
        if not at_site:
            return CONSOLE
        now = time.time()
        if now - self._started < GONE_AFTER and any(r.id == row.owner for r in at_site):
            # After a start relays first have to find their console again: until then nothing changes hands.
            return row.owner
        alive = [r for r in at_site if self._is_alive(r, now)]
        if not alive:
            return row.owner if row.owner in self._relays else at_site[0].id
        return max(alive, key=lambda r: hashlib.sha256(f"{r.name} {row.host}".encode()).digest()).id

    def name_of(self, owner: int) -> str:
        known = self._relays.get(owner)
        return f"the relay {known.name}" if known else "the console"

    def settle(self) -> None:
        """Gives every remote host to whom it belongs now, and tells those that wait for work."""
        if not self._relays and not self._ever:
            return
        self._ever = bool(self._relays)
        moved = bool(self._remote.settle_owners())
        if self.services is not None:
            moved |= self.services.settle_owners()
        if moved:
            self.on_moved()
        self._wake()

    def stop(self) -> None:
        """Lets go of all that wait, for good."""
        self._stopped = True
        self._wake()

    def _wake(self) -> None:
        if self._loop is not None and self._changed is not None and not self._loop.is_closed():
            changed, self._changed = self._changed, asyncio.Event()
            self._loop.call_soon_threadsafe(changed.set)

    def work(self, relay: int) -> RelayWork:
        known = self._relays[relay]
        targets = self._remote.targets(relay)
        if self.services is not None:
            targets += self.services.targets(relay)
        trials = list(known.trials.values())
        probes = self.probes.targets(known.name) if self.probes is not None else []
        without = {"positions": True, "service": {"kit"}}
        plain = [t.model_dump_json(exclude=without, context=REVEALED) for t in targets]  # type: ignore[arg-type]
        asked = [p.model_dump_json(context=REVEALED) for p in probes]
        text = "\n".join([*plain, *(str(t.id) for t in trials), *asked])
        return RelayWork(
            etag=hashlib.sha256(text.encode()).hexdigest()[:16], targets=targets, trials=trials, probes=probes
        )

    async def wait_for_work(self, relay: int, etag: str, seconds: float) -> RelayWork | None:
        """The work, as soon as it is other than what the relay has; None when that does not come in time."""
        end = time.monotonic() + seconds
        while True:
            changed = self._changed
            work = await asyncio.to_thread(self.work, relay)
            if work.etag != etag or changed is None:
                return work
            left = end - time.monotonic()
            if left <= 0 or self._stopped:
                return None
            try:
                await asyncio.wait_for(changed.wait(), left)
            except TimeoutError:
                return None

    # --- trials

    async def attempt(self, site: str, target: RemoteTarget) -> Trial:
        """Has a relay of a site try to read a host once. Never raises."""
        now = time.time()
        alive = [r for r in self._relays.values() if r.site == site and self._is_alive(r, now)]
        if not alive:
            return Trial("failed", f"no relay of {site!r} is alive to try it: start one, or leave the site out")
        relay = min(alive, key=lambda r: len(r.trials))
        number = next(self._numbers)
        future: asyncio.Future[Trial] = asyncio.get_running_loop().create_future()
        self._trials[number] = future
        relay.trials[number] = TrialRequest(id=number, target=target)
        self._wake()
        try:
            return await asyncio.wait_for(future, target.time_limit + TRIAL_GRACE)
        except TimeoutError:
            return Trial(
                "timed-out", f"the relay {relay.name} did not say within {target.time_limit:g} s what came of it"
            )
        finally:
            relay.trials.pop(number, None)
            self._trials.pop(number, None)

    def tried(self, relay: int, number: int, answer: TrialAnswer) -> None:
        known = self._relays[relay]
        future = self._trials.get(number)
        if number not in known.trials or future is None:
            return
        trial = Trial(answer.result, answer.message, answer.facts, answer.host_key)
        future.get_loop().call_soon_threadsafe(lambda: None if future.done() else future.set_result(trial))

    # --- what they tell

    def report(self, relay: int, report: RelayReport) -> None:
        known = self._relays[relay]
        was_gone = not self._is_alive(known, time.time())
        known.last_seen, known.report = time.time(), report
        for number, turn in report.turns.items():
            host = self._directory.get(number)
            row = self._state.read(lambda s, number=number: s.get(tables.Remote, number))  # type: ignore[misc]
            if host is None or row is None or row.owner != relay:
                continue
            host.problem, host.cost = turn.problem, turn.cost
            if turn.host_key or turn.positions:
                self._remote.note(number, key=turn.host_key, positions=turn.positions)
            if turn.facts and turn.facts.model_dump() != host.facts:
                self.on_facts(number, turn.facts)
        for number, turn in report.service_turns.items():
            row = self.services.owned(number) if self.services is not None else None
            if self.services is not None and row is not None and row.owner == relay:
                self.services.note(number, turn)
        if self.probes is not None:
            for name, result in report.probes:
                self.probes.heard(known.name, name, result)
        if was_gone:
            self.settle()

    def heard(self, relay: int) -> None:
        self._relays[relay].last_seen = time.time()

    def wake(self) -> None:
        """What relays have to do may be another."""
        self._wake()

    def names(self) -> set[str]:
        return {relay.name for relay in self._relays.values()}

    def known(self, relay: int | None) -> bool:
        return relay in self._relays

    def look(self) -> None:
        """Notices relays that are gone, so that others take over; keeps when they were heard."""
        self.settle()
        seen = {r.id: r.last_seen for r in self._relays.values()}

        def write(session: Session) -> None:
            for number, at in seen.items():
                row = session.get(tables.Relay, number)
                if row is not None:
                    row.last_seen = at

        if seen:
            self._state.write(write)


def _make_site(session: Session, name: str) -> None:
    from balise.server.hosts.groups import group_row

    group_row(session, name).kind = "site"


def _sender(row: tables.Token) -> Sender:
    if row.host is not None:
        return Sender(sender=f"host:{row.host}", name=row.name, role=row.role)
    return Sender(sender=f"token:{row.id}:{row.name}", name=row.name, role=row.role)


def _site_by(key: tables.EnrolmentKey, wanted: str | None) -> str | None:
    """The site of a relay that comes with a key. A relay is given what its site's hosts are read with, so that only a
    key that was made for a site gives it."""
    if wanted is not None and wanted != key.site:
        said = f"is for the site {key.site!r}" if key.site else "is for no site"
        raise Refused(403, f"This key {said}: make one for {wanted!r} (balise key create --site {wanted}).")
    return key.site
