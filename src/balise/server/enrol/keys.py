"""Enrolling: keys, machines that come with one, those that wait for approval, and who has a machine already."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from balise.api.access import EnrolmentKey as KeyAnswer
from balise.api.access import MadeEnrolmentKey, NewEnrolmentKey
from balise.api.agents import AgentSelf, Candidate, EnrolAnswer, EnrolRequest
from balise.api.hosts import NOBODYS, Facts
from balise.api.spans import rfc3339, seconds
from balise.server.errors import Refused, bad_field, unknown
from balise.server.hosts.directory import Directory, clean_name
from balise.server.hosts.groups import join_group
from balise.server.people.access import Access, audit
from balise.server.people.keys import usable_key
from balise.server.receivers.senders import SenderBook
from balise.server.signals import Signal
from balise.store.state import tables
from balise.store.state.secrets import digest, new_token
from balise.store.state.store import StateStore

EVERY_SECONDS = 15
ALIVE = 90.0
"""A host heard within so many seconds is alive: a second machine with its machine id is then a copy of it."""
MOST_WAITING = 10_000


class Enrolling:
    """Keys, and the machines that come with them."""

    def __init__(self, *, state: StateStore, directory: Directory, access: Access, senders: SenderBook) -> None:
        self._state = state
        self._directory = directory
        self._access = access
        self._senders = senders
        self.came = Signal[int]("host came")
        """Told the number of a host that came, or that its agent has from now on."""

    # --- keys

    def make_key(self, wanted: NewEnrolmentKey, who: str, base_url: str, trust: str = "") -> MadeEnrolmentKey:
        """A new key; `trust` is what the command has to say of the console's certificate."""
        key = new_token("key")
        now = time.time()

        def add(session: Session) -> tables.EnrolmentKey:
            row = tables.EnrolmentKey(
                label=wanted.label,
                digest=digest(key),
                group=wanted.group,
                site=wanted.site,
                labels=dict(wanted.labels),
                approval=wanted.approval,
                uses_left=wanted.uses,
                created_at=now,
                expires_at=now + seconds(wanted.expires_in),
            )
            session.add(row)
            session.flush()
            named = {"group": wanted.group, "site": wanted.site}
            audit(session, who, "enrolment-key.create", wanted.label, uses=wanted.uses, **named)
            return row

        row = self._state.write(add)
        command = f"balise agent enrol --console {base_url}{trust} --key {key}"
        return MadeEnrolmentKey(**_key_answer(row, [], 0).model_dump(), key=key, command=command)

    def keys(self) -> list[KeyAnswer]:
        def read(session: Session) -> list[KeyAnswer]:
            came: dict[int, list[str]] = {}
            for key, name in (
                (tables.Host.enrolled_with, tables.Host.name),
                (tables.Relay.enrolled_with, tables.Relay.name),
            ):
                for number, called in session.execute(select(key, name).where(key.is_not(None))):
                    came.setdefault(number or 0, []).append(called)
            waiting = select(tables.Candidate.key, func.count()).group_by(tables.Candidate.key)
            counts = {row[0]: row[1] for row in session.execute(waiting)}
            rows = session.scalars(select(tables.EnrolmentKey).order_by(tables.EnrolmentKey.id.desc()).limit(500))
            return [_key_answer(row, came.get(row.id, []), counts.get(row.id, 0)) for row in rows]

        return self._state.read(read)

    def revoke_key(self, number: int, who: str, *, agents: bool = False) -> int:
        """The key enrols nothing more; with `agents`, what it enrolled may not deliver any more either."""
        now = time.time()

        def write(session: Session) -> int:
            row = session.get(tables.EnrolmentKey, number)
            if row is None:
                raise unknown("enrolment key", number)
            row.revoked_at = row.revoked_at or now
            row.uses_left = 0
            session.execute(delete(tables.Candidate).where(tables.Candidate.key == number))
            audit(session, who, "enrolment-key.revoke", row.label, agents=agents)
            if not agents:
                return 0
            hosts = list(session.scalars(select(tables.Host.id).where(tables.Host.enrolled_with == number)))
            relays = list(session.scalars(select(tables.Relay.id).where(tables.Relay.enrolled_with == number)))
            session.execute(delete(tables.Token).where(tables.Token.host.in_(hosts)))
            session.execute(delete(tables.Token).where(tables.Token.relay.in_(relays)))
            return len(hosts) + len(relays)

        count = self._state.write(write)
        self._access.forget_remembered()
        return count

    def revoke_agent(self, name: str, who: str) -> None:
        """The agent of a host may not deliver any more; the host and its history stay."""
        known = self._directory.find(name)
        if known is None:
            raise unknown("host", name)

        def write(session: Session) -> None:
            session.execute(delete(tables.Token).where(tables.Token.host == known.id))
            audit(session, who, "agent.revoke", name)

        self._state.write(write)
        self._access.forget_remembered()

    # --- machines that come

    def enrol(self, request: EnrolRequest, origin: str = "") -> EnrolAnswer:
        """Trades a key for an identity. A machine that was here before goes on with the one it had.

        Raises:
            Refused: 403 when the key is unknown, revoked, expired or used up; 409 when another collector has the
                machine or another machine has the name.
        """
        facts = request.facts
        token = new_token("agt")

        def write(session: Session) -> tables.Host | None:
            key = usable_key(session, request.key.reveal())
            if key.approval == "manual":
                self._identity(session, facts, take_over=request.take_over)
                if session.scalar(select(func.count(tables.Candidate.id))) >= MOST_WAITING:  # type: ignore[operator]
                    raise Refused(409, f"{MOST_WAITING} machines wait to be let in already: let in or refuse some.")
                waiting = tables.Candidate(
                    key=key.id, name=named(facts), facts=facts.model_dump(), digest=digest(token)
                )
                waiting.take_over, waiting.origin, waiting.created_at = request.take_over, origin[:100], time.time()
                session.add(waiting)
                key.uses_left -= 1
                audit(session, f"key {key.label}", "agent.ask", waiting.name, origin=origin)
                return None
            host = self._let_in(session, key, facts, digest(token), take_over=request.take_over, by=f"key {key.label}")
            key.uses_left -= 1
            return host

        host = self._state.write(write)
        if host is None:
            return EnrolAnswer(host=named(facts), host_id=0, token=token, every_seconds=EVERY_SECONDS, state="waiting")
        self._directory.refresh(host.id)
        self._access.forget_host(host.id)
        self.came.tell(host.id)
        return EnrolAnswer(host=host.name, host_id=host.id, token=token, every_seconds=EVERY_SECONDS)

    def _identity(self, session: Session, facts: Facts, *, take_over: bool) -> tables.Host | None:
        return find_identity(session, facts, take_over=take_over, heard=self._heard)

    def _heard(self, host: int) -> float | None:
        known = self._directory.get(host)
        return known.last_seen if known else None

    def _let_in(
        self, session: Session, key: tables.EnrolmentKey, facts: Facts, token: str, *, take_over: bool, by: str
    ) -> tables.Host:
        host = self._identity(session, facts, take_over=take_over) or new_host(session, named(facts))
        host.facts, host.mode, host.collected_by = facts.model_dump(), "resident", "its agent"
        host.machine_id, host.enrolled_with, host.retired_at = facts.machine_id, key.id, None
        host.labels = {**key.labels, **host.labels}
        session.flush()
        if key.group:
            join_group(session, host.id, key.group)
        session.execute(delete(tables.Token).where(tables.Token.host == host.id))
        session.add(agent_token(host.id, host.name, token))
        audit(session, by, "agent.enrol", host.name, take_over=take_over)
        return host

    def check(self, key: str, facts: Facts) -> tuple[bool, str]:
        """Whether enrolling with a key would work, and what would come of it, without doing it."""

        def read(session: Session) -> str:
            row = usable_key(session, key)
            same = self._identity(session, facts, take_over=False)
            session.rollback()
            uses = f"the key {row.label!r} is good for {row.uses_left} more until {rfc3339(row.expires_at)}"
            how = "; somebody has to approve this machine" if row.approval == "manual" else ""
            return f"{uses}{how}; " + (f"this machine goes on as {same.name!r}" if same else "this machine is new")

        try:
            return True, self._state.read(read)
        except Refused as error:
            return False, error.detail

    # --- those that wait

    def candidates(self) -> list[Candidate]:
        """Machines that came with a key, then who speaks to receivers and is no host."""

        def read(session: Session) -> list[Candidate]:
            rows = session.execute(
                select(tables.Candidate, tables.EnrolmentKey.label)
                .join(tables.EnrolmentKey)
                .order_by(tables.Candidate.id)
                .limit(1000)
            )
            return [
                Candidate(
                    id=row.id,
                    name=row.name,
                    facts=Facts.model_validate(row.facts),
                    key=label,
                    origin=row.origin,
                    asked_at=rfc3339(row.created_at),
                )
                for row, label in rows
            ]

        return [*self._state.read(read), *self._senders.candidates()]

    def let_sender_in(self, number: int, who: str, name: str | None = None) -> str:
        """Makes a sender a host; answers its name. Raises Refused 404 and 409."""
        called = self._senders.let_in(number, who, name)
        known = self._directory.find(called)
        if known is not None:
            self.came.tell(known.id)
        return called

    def approve(self, number: int, who: str, name: str | None = None) -> str:
        """Lets a machine in; answers the host's name. Raises Refused as `enrol`."""

        def write(session: Session) -> tables.Host:
            row = session.get(tables.Candidate, number)
            if row is None:
                raise unknown("waiting machine", number)
            facts = Facts.model_validate({**row.facts, "host_name": name or row.name})
            key = session.get_one(tables.EnrolmentKey, row.key)
            host = self._let_in(session, key, facts, row.digest, take_over=row.take_over, by=who)
            session.delete(row)
            return host

        host = self._state.write(write)
        self._directory.refresh(host.id)
        self._access.forget_remembered()
        self.came.tell(host.id)
        return host.name

    def turn_away(self, number: int, who: str) -> None:
        def write(session: Session) -> None:
            row = session.get(tables.Candidate, number)
            if row is None:
                raise unknown("waiting machine", number)
            session.delete(row)
            audit(session, who, "agent.refuse", row.name)

        self._state.write(write)
        self._access.forget_remembered()

    # --- agents that are here

    def who_is(self, token: str) -> AgentSelf | None:
        """What an agent's token stands for; None when it is not known."""

        def read(session: Session) -> AgentSelf | None:
            now = time.time()
            waiting = session.scalar(select(tables.Candidate).where(tables.Candidate.digest == digest(token)))
            if waiting:
                return AgentSelf(host=waiting.name, state="waiting", now=now, token_made_at=None)
            row = session.scalar(select(tables.Token).where(tables.Token.digest == digest(token)))
            if row is None or row.host is None:
                return None
            host = session.get_one(tables.Host, row.host)
            return AgentSelf(host=host.name, state="enrolled", now=now, token_made_at=row.created_at)

        return self._state.read(read)

    def rotate(self, host: int) -> str:
        """A new token for an agent. The old one is good until the new one is first used."""
        token = new_token("agt")

        def write(session: Session) -> None:
            name = session.get_one(tables.Host, host).name
            session.add(
                tables.Token(
                    name=f"agent of {name}", role="agent", digest=digest(token), host=host, created_at=time.time()
                )
            )
            audit(session, name, "agent.rotate", name)

        self._state.write(write)
        return token


def agent_token(host: int, name: str, token: str) -> tables.Token:
    """A row for an agent's token, of which `token` is the digest."""
    return tables.Token(name=f"agent of {name}", role="agent", digest=token, host=host, created_at=time.time())


def named(facts: Facts) -> str:
    name = clean_name(facts.host_name)
    if not name:
        raise bad_field("facts.host_name", "it has no readable letter")
    return name


def new_host(session: Session, name: str) -> tables.Host:
    now = time.time()
    host = tables.Host(name=name, created_at=now, state_since=now, state="ok")
    session.add(host)
    session.flush()
    return host


def owner_in_words(host: tables.Host) -> str:
    """`'quay-a', collected remotely by the console over SSH`, for a refusal that names the owner."""
    if host.retired_at is not None:
        return f"{host.name!r}, which is retired"
    if host.mode == "resident":
        return f"{host.name!r}, collected by its agent"
    if host.mode == "probed":
        return f"{host.name!r}, known from probes alone"
    if host.mode == "received":
        return f"{host.name!r}, known from other senders"
    return f"{host.name!r}, collected remotely by {host.collected_by}"


def same_machine(session: Session, facts: Facts) -> tables.Host | None:
    """The host that is this machine, by its machine id; of several, the one of this name, else the last heard."""
    if not facts.machine_id:
        return None
    rows = list(session.scalars(select(tables.Host).where(tables.Host.machine_id == facts.machine_id)))
    name = clean_name(facts.host_name)
    return max(rows, key=lambda h: (h.name == name, h.retired_at is None, h.last_seen or 0.0), default=None)


def find_identity(
    session: Session, facts: Facts, *, take_over: bool, heard: Callable[[int], float | None]
) -> tables.Host | None:
    """The host an agent on this machine goes on as; None when it is new. `heard` tells when a host last was.

    Raises:
        Refused: 409 when another collector has the machine, another machine the name, or it is a copy.
    """
    name = named(facts)
    same = same_machine(session, facts)
    if same is not None:
        if not take_over:
            _refuse_copy(same, facts, heard(same.id))
        its_own = same.name == name and same.mode in ("resident", *NOBODYS)
        if take_over or its_own or same.retired_at is not None:
            return same
        raise Refused(
            409,
            f"This machine is already here as {owner_in_words(same)}. To go on with its identity and history, enrol "
            "with --take-over. If this is a copy of that machine, give it a machine id of its own first "
            "(rm /etc/machine-id; systemd-machine-id-setup).",
        )
    host = session.scalar(select(tables.Host).where(tables.Host.name == name))
    if host is None or host.mode in NOBODYS or take_over:
        return host
    what = "Another machine is enrolled as" if host.mode == "resident" else "There is already"
    raise Refused(
        409,
        f"{what} {owner_in_words(host)}: give this one a name of its own (--name), or, if it took that one's place, "
        "enrol with --take-over to go on with its history.",
    )


def _refuse_copy(same: tables.Host, facts: Facts, heard: float | None) -> None:
    before: dict[str, Any] = same.facts or {}
    alive = heard is not None and time.time() - heard < ALIVE and same.mode == "resident"
    others = set(before.get("addresses") or ())
    if not alive or not others or not facts.addresses or others & set(facts.addresses):
        return
    where = ", ".join(sorted(others)[:3])
    raise Refused(
        409,
        f"A machine with the same machine id is alive as {same.name!r} at {where}: this one looks like a copy of it. "
        "Give it a machine id of its own (rm /etc/machine-id; systemd-machine-id-setup), or enrol with --take-over if "
        "it takes that one's place.",
    )


def _key_answer(row: tables.EnrolmentKey, came: list[str], waiting: int) -> KeyAnswer:
    return KeyAnswer(
        id=row.id,
        label=row.label,
        group=row.group,
        site=row.site,
        labels=row.labels,
        approval=row.approval,  # type: ignore[arg-type]
        created_at=rfc3339(row.created_at),
        expires_at=rfc3339(row.expires_at),
        revoked_at=rfc3339(row.revoked_at) if row.revoked_at else None,
        uses_left=row.uses_left,
        enrolled=sorted(came),
        waiting=waiting,
    )
