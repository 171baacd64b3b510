"""Hosts and groups as the API answers them; enrolling agents."""

from __future__ import annotations

import time
from typing import Any

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from balise.api.access import EnrolmentKey as KeyAnswer
from balise.api.access import MadeEnrolmentKey, NewEnrolmentKey
from balise.api.agents import EnrolAnswer, EnrolRequest
from balise.api.hosts import Collection, Evidence, Facts, Host, HostChange, State, Stretch
from balise.api.hosts import Group as GroupAnswer
from balise.api.lists import Page
from balise.api.spans import rfc3339, seconds
from balise.core.health import ribbon, worst
from balise.server.access import audit
from balise.server.alerts import AlertBook
from balise.server.directory import Directory, Known, clean_name, read_filter
from balise.server.errors import Refused, bad_field, unknown
from balise.server.evidence import EvidenceReader
from balise.store.state import tables
from balise.store.state.secrets import digest, new_token
from balise.store.state.store import StateStore

EVERY_SECONDS = 15
_SORTS = ("name", "state", "last_seen")
_WORST = {"critical": 0, "warning": 1, "silent": 2, "ok": 3, "paused": 4}


class HostBook:
    """Hosts, groups and enrolment."""

    def __init__(self, *, state: StateStore, directory: Directory, book: AlertBook, evidence: EvidenceReader) -> None:
        self._state = state
        self._directory = directory
        self._book = book
        self._evidence = evidence
        self._reports: dict[int, dict[str, Any]] = {}

    # --- hosts

    def page(self, where: str | None, sort: str, limit: int, cursor: str | None) -> Page[Host]:
        """Hosts that pass the filter, in order."""
        key, descending = sort.lstrip("-"), sort.startswith("-")
        if key not in _SORTS:
            raise bad_field("sort", f"write one of {', '.join(_SORTS)}, with - before it for the other order")
        found = self._directory.matching(read_filter(where, "where"))
        orders: dict[str, Any] = {
            "name": lambda k: k.name,
            "state": lambda k: (_WORST[k.state], k.name),
            "last_seen": lambda k: (k.last_seen or 0.0, k.name),
        }
        found.sort(key=orders[key], reverse=descending)
        at = int(cursor) if cursor and cursor.isdecimal() else 0
        if cursor and not cursor.isdecimal():
            raise bad_field("cursor", "not one that an earlier answer gave: leave it out to begin anew")
        part = found[at : at + limit]
        rows = self._rows([k.id for k in part])
        severities = self._book.severities()
        items = [self._answer(k, rows.get(k.id), severities) for k in part]
        return Page[Host](items=items, next=str(at + limit) if at + limit < len(found) else None)

    def get(self, name: str) -> Host:
        known = self.known(name)
        return self._answer(known, self._rows([known.id]).get(known.id), self._book.severities())

    def known(self, name: str) -> Known:
        known = self._directory.find(name)
        if known is None:
            raise unknown("host", name)
        return known

    def _rows(self, ids: list[int]) -> dict[int, tables.Host]:
        rows = self._state.read(lambda s: list(s.scalars(select(tables.Host).where(tables.Host.id.in_(ids)))))
        return {row.id: row for row in rows}

    def _answer(self, known: Known, row: tables.Host | None, severities: dict[int, list[str]]) -> Host:
        facts = Facts.model_validate(row.facts) if row and row.facts else None
        return Host(
            id=known.id,
            name=known.name,
            state=known.state,
            state_since=rfc3339(known.state_since),
            labels=known.labels,
            groups=known.groups,
            os=known.os,
            facts=facts,
            agent=self._reports.get(known.id) or (row.agent if row else None),
            last_seen=rfc3339(known.last_seen) if known.last_seen else None,
            collection=Collection(
                mode=known.mode,  # type: ignore[arg-type]
                by=known.collected_by or "its senders",
                delay_seconds=round(known.delay, 3) if known.delay is not None else None,
                problem=known.problem,
            ),
            open_alerts=len(severities.get(known.id, ())),
        )

    def states(self, name: str, start: float, end: float) -> list[Stretch]:
        """How a host's state went over [start, end)."""
        known = self.known(name)

        def read(session: Session) -> list[Stretch]:
            change = tables.StateChange
            rows = session.scalars(
                select(change).where(change.host == known.id, change.at < end).order_by(change.at.desc()).limit(2000)
            )
            return [Stretch(at=r.at, state=r.state) for r in rows][::-1]  # type: ignore[arg-type]

        return ribbon([self._state.read(read)], start, end)

    def change(self, name: str, change: HostChange, who: str) -> Host:
        """Sets labels and groups."""
        known = self.known(name)

        def write(session: Session) -> None:
            row = session.get_one(tables.Host, known.id)
            if change.labels is not None:
                if len(change.labels) > 64:
                    raise bad_field("labels", "at most 64")
                row.labels = dict(change.labels)
            if change.groups is not None:
                session.execute(delete(tables.Member).where(tables.Member.host == known.id))
                for group in dict.fromkeys(change.groups):
                    join_group(session, known.id, group)
            audit(session, who, "host.change", name, **change.model_dump(exclude_none=True))

        self._state.write(write)
        self._directory.reload()
        return self.get(name)

    def evidence(self, name: str, start: float, end: float) -> Evidence:
        known = self.known(name)
        processes, looked = self._evidence.processes(known.name, start, end)
        return Evidence(processes=processes, sessions=self._evidence.sessions(known.name, start, end), snapshots=looked)

    # --- groups

    def groups(self, start: float, end: float) -> list[GroupAnswer]:
        """Every group with its hosts' states now and over the span."""
        members: dict[str, list[Known]] = {name: [] for name in self._directory.groups}
        for known in self._directory.all():
            for group in known.groups:
                members[group].append(known)
        return [self._group(name, hosts, start, end) for name, hosts in members.items()]

    @staticmethod
    def _group(name: str, hosts: list[Known], start: float, end: float) -> GroupAnswer:
        states: dict[State, int] = {}
        for host in hosts:
            states[host.state] = states.get(host.state, 0) + 1
        return GroupAnswer(
            name=name,
            hosts=len(hosts),
            states=states,
            state=worst(h.state for h in hosts),
            ribbon=ribbon([h.changes for h in hosts], start, end),
        )

    # --- enrolling

    def make_key(self, wanted: NewEnrolmentKey, who: str, base_url: str) -> MadeEnrolmentKey:
        key = new_token("key")
        now = time.time()

        def add(session: Session) -> tables.EnrolmentKey:
            row = tables.EnrolmentKey(
                label=wanted.label,
                digest=digest(key),
                group=wanted.group,
                uses_left=wanted.uses,
                created_at=now,
                expires_at=now + seconds(wanted.expires_in),
            )
            session.add(row)
            session.flush()
            audit(session, who, "enrolment-key.create", wanted.label, uses=wanted.uses, group=wanted.group)
            return row

        row = self._state.write(add)
        command = f"balise agent enrol --console {base_url} --key {key}"
        return MadeEnrolmentKey(**_key_answer(row, []).model_dump(), key=key, command=command)

    def keys(self) -> list[KeyAnswer]:
        def read(session: Session) -> list[KeyAnswer]:
            hosts: dict[int, list[str]] = {}
            for host in session.scalars(select(tables.Host).where(tables.Host.enrolled_with.is_not(None))):
                hosts.setdefault(host.enrolled_with or 0, []).append(host.name)
            rows = session.scalars(select(tables.EnrolmentKey).order_by(tables.EnrolmentKey.id.desc()).limit(500))
            return [_key_answer(row, hosts.get(row.id, [])) for row in rows]

        return self._state.read(read)

    def revoke_key(self, number: int, who: str) -> None:
        def write(session: Session) -> None:
            row = session.get(tables.EnrolmentKey, number)
            if row is None:
                raise unknown("enrolment key", number)
            session.delete(row)
            audit(session, who, "enrolment-key.revoke", row.label)

        self._state.write(write)

    def enrol(self, request: EnrolRequest) -> EnrolAnswer:
        """Trades a key for an identity. The host keeps the identity it had if the same machine asks again.

        Raises:
            Refused: 403 when the key is unknown, expired or used up; 409 when another machine has the name.
        """
        facts = request.facts
        name = clean_name(facts.host_name)
        if not name:
            raise bad_field("facts.host_name", "it has no readable letter")
        token = new_token("agt")
        now = time.time()

        def write(session: Session) -> tables.Host:
            key = session.scalar(select(tables.EnrolmentKey).where(tables.EnrolmentKey.digest == digest(request.key)))
            if key is None:
                raise Refused(403, "The enrolment key is not known: copy it again from Settings, Enrolment keys.")
            if key.expires_at < now:
                raise Refused(403, f"The enrolment key {key.label!r} has expired: make a new one.")
            if key.uses_left < 1:
                raise Refused(403, f"The enrolment key {key.label!r} has been used as often as it may: make a new one.")
            host = _host_to_enrol(session, name, facts, now)
            key.uses_left -= 1
            host.facts, host.mode, host.collected_by = facts.model_dump(), "resident", "its agent"
            host.machine_id, host.enrolled_with = facts.machine_id, key.id
            session.flush()
            if key.group:
                join_group(session, host.id, key.group)
            session.execute(delete(tables.Token).where(tables.Token.host == host.id))
            session.add(
                tables.Token(name=f"agent of {name}", role="agent", digest=digest(token), host=host.id, created_at=now)
            )
            audit(session, f"key {key.label}", "agent.enrol", name)
            return host

        host = self._state.write(write)
        self._directory.reload()
        return EnrolAnswer(host=host.name, host_id=host.id, token=token, every_seconds=EVERY_SECONDS)

    def set_facts(self, host: int, facts: Facts) -> None:
        """What an agent says of its host at each start."""

        def write(session: Session) -> None:
            session.get_one(tables.Host, host).facts = facts.model_dump()

        self._state.write(write)
        self._directory.reload()

    def report(self, host: int, content: dict[str, Any]) -> None:
        """An agent's report of itself: kept in memory, and what went wrong shown on the host."""
        self._reports[host] = content
        known = self._directory.get(host)
        if known:
            known.problem = str(content["problem"])[:300] if content.get("problem") else None

    def write_reports(self) -> None:
        """Keeps the last reports, so that they are there after a restart."""
        reports = dict(self._reports)

        def write(session: Session) -> None:
            for number, report in reports.items():
                row = session.get(tables.Host, number)
                if row:
                    row.agent = report

        if reports:
            self._state.write(write)


def _host_to_enrol(session: Session, name: str, facts: Facts, now: float) -> tables.Host:
    if facts.machine_id:
        same = session.scalar(
            select(tables.Host).where(tables.Host.machine_id == facts.machine_id, tables.Host.name == name)
        )
        if same:
            return same
    host = session.scalar(select(tables.Host).where(tables.Host.name == name))
    if host is None:
        host = tables.Host(name=name, created_at=now, state_since=now, state="ok")
        session.add(host)
        return host
    if host.mode == "resident" and host.machine_id and host.machine_id != facts.machine_id:
        raise Refused(
            409,
            f"Another machine is enrolled as {name!r}: give this one a name of its own (--name), "
            "or remove the other one first.",
        )
    return host


def join_group(session: Session, host: int, name: str) -> None:
    """Puts a host into a group, which is made if need be."""
    group = session.scalar(select(tables.Group).where(tables.Group.name == name))
    if group is None:
        position = len(session.scalars(select(tables.Group.id)).all())
        group = tables.Group(name=name, position=position)
        session.add(group)
        session.flush()
    if session.get(tables.Member, (group.id, host)) is None:
        session.add(tables.Member(group=group.id, host=host))
        session.flush()


def _key_answer(row: tables.EnrolmentKey, hosts: list[str]) -> KeyAnswer:
    return KeyAnswer(
        id=row.id,
        label=row.label,
        group=row.group,
        created_at=rfc3339(row.created_at),
        expires_at=rfc3339(row.expires_at),
        uses_left=row.uses_left,
        enrolled=sorted(hosts),
    )
