"""Hosts as the API answers them, and what may be done with them."""

from __future__ import annotations

import time
from collections.abc import Sequence
from operator import attrgetter
from typing import Any, NamedTuple

from sqlalchemy import delete, func, null, select
from sqlalchemy.orm import Session

from balise.api.hosts import Collection, Evidence, Facts, Host, HostChange, HostsChange, Stretch
from balise.api.lists import Page
from balise.api.spans import rfc3339
from balise.core.health import ribbon
from balise.server.alerts.book import AlertBook
from balise.server.asking import read_filter
from balise.server.errors import bad_field, unknown
from balise.server.events.evidence import EvidenceReader
from balise.server.hosts.clocks import Clocks
from balise.server.hosts.directory import Directory, Known
from balise.server.hosts.groups import join_group, leave_group
from balise.server.hosts.machines import LABEL, Machines
from balise.server.hosts.reports import HostReports
from balise.server.people.access import audit
from balise.server.signals import Signal
from balise.store.database import in_pieces
from balise.store.state import tables
from balise.store.state.store import StateStore

ERASING, ERASED = "(erasing) ", "(erased) "
"""What a host is called whose history is going, and gone; nobody can give a host such a name."""
MOST_LABELS, MOST_CARRIED = 64, 200
_SORTS = ("name", "state", "last_seen")
_WORST = {"critical": 0, "warning": 1, "silent": 2, "ok": 3, "paused": 4}


class _Row(NamedTuple):
    """What is written of a host, and told of it."""

    created_at: float
    retired_at: float | None
    agent: dict[str, Any] | None


class HostBook:
    """Hosts, and what their collectors say of them."""

    def __init__(
        self,
        *,
        state: StateStore,
        directory: Directory,
        alerts: AlertBook,
        evidence: EvidenceReader,
        clocks: Clocks,
        reports: HostReports,
        machines: Machines,
    ) -> None:
        self._state = state
        self._directory = directory
        self._alerts = alerts
        self._evidence = evidence
        self._clocks = clocks
        self._reports = reports
        self._machines = machines
        self.left = Signal[int]("host left")
        """Told the number of a host of which nothing is taken or collected any more."""
        self.regrouped = Signal[list[int]]("hosts regrouped")
        """Told the numbers of hosts whose labels or groups changed."""

    # --- hosts

    def page(
        self,
        where: str | None,
        sort: str,
        limit: int,
        cursor: str | None,
        *,
        retired: bool = False,
        brief: bool = False,
    ) -> Page[Host]:
        """Hosts that pass the filter, in order; those that have left only when asked for. `brief` is without what
        agents report and what machines carry."""
        key, descending = sort.lstrip("-"), sort.startswith("-")
        if key not in _SORTS:
            raise bad_field("sort", f"write one of {', '.join(_SORTS)}, with - before it for the other order")
        node = read_filter(where, "where")
        found = self._directory.matching(node, of=self._directory.retired() if retired else None)
        # Hosts are in order of their names already, mostly: to sort them by that and then by a number is far quicker
        # than by both at once.
        found.sort(key=attrgetter("name"), reverse=descending)
        if key == "state":
            found.sort(key=lambda k: _WORST[k.state], reverse=descending)
        elif key == "last_seen":
            found.sort(key=lambda k: k.last_seen or 0.0, reverse=descending)
        at = int(cursor) if cursor and cursor.isdecimal() else 0
        if cursor and not cursor.isdecimal():
            raise bad_field("cursor", "not one that an earlier answer gave: leave it out to begin anew")
        part = found[at : at + limit]
        rows = self._rows(part, brief=brief)
        severities = self._alerts.open.severities()
        carries = {} if brief else self._machines.carried()
        items = [self._answer(k, rows.get(k.id), severities, carries) for k in part]
        return Page[Host](items=items, next=str(at + limit) if at + limit < len(found) else None)

    def get(self, name: str) -> Host:
        known = self.known(name)
        row = self._rows([known]).get(known.id)
        return self._answer(known, row, self._alerts.open.severities(), self._machines.carried())

    def known(self, name: str) -> Known:
        known = self._directory.find(name)
        if known is None:
            raise unknown("host", name)
        return known

    def _rows(self, hosts: Sequence[Known], *, brief: bool = False) -> dict[int, _Row]:
        """What is written of hosts; an agent's report only where none came since the start, and none in `brief`."""
        host, last = tables.Host, self._reports.last
        told = select(host.id, host.created_at, host.retired_at, null().label("agent"))
        kept = select(host.id, host.created_at, host.retired_at, host.agent)
        others = [] if brief else [known.id for known in hosts if last(known.id) is None]
        heard = sorted({known.id for known in hosts} - set(others))

        def read(session: Session) -> dict[int, _Row]:
            return {
                row.id: _Row(row.created_at, row.retired_at, None if brief else last(row.id) or row.agent)
                for query, ids in ((told, heard), (kept, others))
                for piece in in_pieces(ids)
                for row in session.execute(query.where(host.id.in_(piece)))
            }

        return self._state.read(read)

    def _answer(
        self, known: Known, row: _Row | None, severities: dict[int, list[str]], carries: dict[str, list[str]]
    ) -> Host:
        facts = Facts.model_validate(known.facts) if known.facts else None
        machine, by = self._machines.of(known)
        return Host(
            id=known.id,
            name=known.name,
            known_since=rfc3339(row.created_at if row else known.state_since),
            state=known.state,
            state_since=rfc3339(known.state_since),
            labels=known.labels,
            groups=known.groups,
            os=known.os,
            facts=facts,
            agent=row.agent if row else None,
            last_seen=rfc3339(known.last_seen) if known.last_seen else None,
            collection=Collection(
                mode=known.mode,  # type: ignore[arg-type]
                by=known.collected_by or ("probes alone" if known.mode == "probed" else "its senders"),
                delay_seconds=round(known.delay, 3) if known.delay is not None else None,
                cost_seconds=known.cost,
                problem=known.refused or known.problem,
                clock_seconds=self._clock_of(known.id),
            ),
            open_alerts=len(severities.get(known.id, ())),
            runs_on=machine or None,
            runs_on_by=by,
            carries=carries.get(known.name, [])[:MOST_CARRIED],
            retired_at=rfc3339(row.retired_at) if row and row.retired_at else None,
        )

    def _clock_of(self, host: int) -> float | None:
        behind = self._clocks.known(host)
        return None if behind is None else round(-behind, 2)

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

    def fell_silent(self, start: float, end: float) -> dict[int, float]:
        """The hosts that were heard before and fell silent in [start, end), unix seconds, each with when first."""
        change = tables.StateChange
        query = (
            select(change.host, func.min(change.at))
            .join(tables.Host, tables.Host.id == change.host)
            .where(change.state == "silent", change.at >= start, change.at < end, tables.Host.created_at < start)
            .group_by(change.host)
        )
        return self._state.read(lambda s: dict(s.execute(query).all()))

    def change(self, name: str, change: HostChange, who: str) -> Host:
        """Sets labels and groups, and the machine that it runs on. Raises Refused 422 for one that cannot be."""
        known = self.known(name)
        if change.runs_on:
            self._machines.check(known.name, change.runs_on)

        def write(session: Session) -> None:
            row = session.get_one(tables.Host, known.id)
            if change.labels is not None:
                _set_labels(row, dict(change.labels))
            if change.runs_on is not None:
                others = {key: value for key, value in row.labels.items() if key != LABEL}
                _set_labels(row, {**others, LABEL: change.runs_on} if change.runs_on else others)
            if change.groups is not None:
                session.execute(delete(tables.Member).where(tables.Member.host == known.id))
                for group in dict.fromkeys(change.groups):
                    join_group(session, known.id, group)
            audit(session, who, "host.change", name, **change.model_dump(exclude_none=True))

        self._state.write(write)
        self._directory.refresh(known.id)
        self.regrouped.tell([known.id])
        return self.get(name)

    def change_many(self, change: HostsChange, who: str) -> int:
        """One change of many hosts at once, all or none. Answers how many."""
        if change.hosts is not None:
            chosen = [self.known(name) for name in dict.fromkeys(change.hosts)]
        else:
            chosen = self._directory.matching(read_filter(change.where, "where"))

        def write(session: Session) -> None:
            for known in chosen:
                row = session.get_one(tables.Host, known.id)
                kept = {k: v for k, v in row.labels.items() if k not in change.remove_labels}
                _set_labels(row, {**kept, **change.set_labels})
                for group in change.join:
                    join_group(session, known.id, group)
                for group in change.leave:
                    leave_group(session, known.id, group)
            audit(session, who, "hosts.change", f"{len(chosen)} hosts", **change.model_dump(exclude_defaults=True))

        self._state.write(write)
        self._directory.refresh(*(known.id for known in chosen))
        self.regrouped.tell([known.id for known in chosen])
        return len(chosen)

    def retire(self, name: str, who: str) -> Host:
        """The host leaves: nothing is collected or taken any more, its history stays until it is forgotten."""
        known = self.known(name)
        now = time.time()

        def write(session: Session) -> None:
            row = session.get_one(tables.Host, known.id)
            row.retired_at = row.retired_at or now
            session.execute(delete(tables.Token).where(tables.Token.host == known.id))
            session.execute(delete(tables.Remote).where(tables.Remote.host == known.id))
            audit(session, who, "host.retire", name)

        self._state.write(write)
        self._directory.refresh(known.id)
        self._alerts.end_of_host(known.id, "host retired", now)
        self.left.tell(known.id)
        return self.get(name)

    def erase(self, name: str, who: str) -> None:
        """The host goes with all its history. Its name is free at once; the history goes in the background.

        Its row stays, nameless, so that its number, and those of its series, are never given to another.
        """
        known = self.known(name)
        self.retire(name, who)

        def write(session: Session) -> None:
            row = session.get_one(tables.Host, known.id)
            row.name = f"{ERASING}{known.id} {name}"
            row.labels, row.facts, row.agent, row.machine_id = {}, None, None, ""
            session.execute(delete(tables.Member).where(tables.Member.host == known.id))
            session.execute(delete(tables.StateChange).where(tables.StateChange.host == known.id))
            session.execute(delete(tables.Alert).where(tables.Alert.host == known.id))
            audit(session, who, "host.erase", name)

        self._state.write(write)
        self._directory.reload()
        self._reports.forget(known.id)

    def to_erase(self) -> list[tuple[int, str]]:
        """Hosts whose history is still to go: their numbers, and the names they had."""
        query = select(tables.Host.id, tables.Host.name).where(tables.Host.name.startswith(ERASING))
        rows = self._state.read(lambda s: list(s.execute(query)))
        return [(number, name.removeprefix(f"{ERASING}{number} ")) for number, name in rows]

    def erased(self, number: int) -> None:
        def write(session: Session) -> None:
            session.get_one(tables.Host, number).name = f"{ERASED}{number}"

        self._state.write(write)
        self._directory.reload()

    def evidence(self, name: str, start: float, end: float) -> Evidence:
        known = self.known(name)
        processes, looked = self._evidence.processes(known.name, start, end)
        return Evidence(
            processes=processes,
            sessions=self._evidence.sessions(known.name, start, end),
            signed_in=self._evidence.signed_in(known.name, start, end),
            snapshots=looked,
        )


def _set_labels(row: tables.Host, labels: dict[str, str]) -> None:
    if len(labels) > MOST_LABELS:
        raise bad_field("labels", f"at most {MOST_LABELS}")
    row.labels = labels
