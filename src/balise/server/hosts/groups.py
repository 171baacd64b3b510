"""Groups: listed or chosen by a filter, nested, some of them sites."""

from __future__ import annotations

from sqlalchemy import delete, func, select, update
from sqlalchemy.orm import Session

from balise.api.hosts import Group as GroupAnswer
from balise.api.hosts import GroupBody, GroupMatch, State
from balise.core.filters import attributes_of
from balise.core.health import ribbon, worst
from balise.server.asking import read_filter
from balise.server.errors import Refused, bad_field, unknown
from balise.server.hosts.directory import Directory, Known
from balise.server.people.access import audit
from balise.server.signals import Signal
from balise.store.state import tables
from balise.store.state.store import StateStore

SHOWN = 20
CIRCULAR = ("group", "site", "application", "state")
"""What a group's filter may not ask: it would depend on itself, or change with every alert."""


class GroupBook:
    """All groups."""

    def __init__(self, *, state: StateStore, directory: Directory) -> None:
        self._state = state
        self._directory = directory
        self.changed = Signal[str]("group")
        """Told the name of a group that is other than it was, or gone."""

    def all(self, start: float, end: float) -> list[GroupAnswer]:
        """Every group with its hosts' states now and over the span."""
        members: dict[str, list[Known]] = {name: [] for name in self._directory.groups}
        for known in self._directory.all():
            for group in known.groups:
                members[group].append(known)
        return [self._answer(name, hosts, start, end) for name, hosts in members.items()]

    def get(self, name: str, start: float, end: float) -> GroupAnswer:
        if name not in self._directory.groups:
            raise unknown("group", name)
        return self._answer(name, [k for k in self._directory.all() if name in k.groups], start, end)

    def _answer(self, name: str, hosts: list[Known], start: float, end: float) -> GroupAnswer:
        states: dict[State, int] = {}
        for host in hosts:
            states[host.state] = states.get(host.state, 0) + 1
        group = self._directory.groups[name]
        return GroupAnswer(
            name=name,
            kind=group.kind,  # type: ignore[arg-type]
            about=group.about,
            parent=group.parent,
            where=group.text,
            listed=sum(name in host.listed for host in hosts),
            hosts=len(hosts),
            states=states,
            state=worst(h.state for h in hosts),
            ribbon=ribbon([h.changes for h in hosts], start, end),
        )

    def preview(self, where: str) -> GroupMatch:
        """What a filter would choose now."""
        self._checked(where)
        names = sorted(known.name for known in self._directory.matching(read_filter(where, "where")))
        return GroupMatch(count=len(names), hosts=names[:SHOWN])

    @staticmethod
    def _checked(where: str) -> None:
        node = read_filter(where, "where")
        asked = sorted(attributes_of(node) & set(CIRCULAR)) if node else []
        if asked:
            raise bad_field("where", f"a group cannot be chosen by {asked[0]}: ask labels, facts, os, mode or the name")

    def put(self, name: str, body: GroupBody, who: str) -> None:
        """Makes a group or changes one; fields that were not sent stay."""
        if body.where:
            self._checked(body.where)
        if body.parent is not None and name in self._directory.lineage(body.parent):
            raise bad_field("parent", f"{body.parent!r} is {name!r} itself or below it")
        numbers = [self._host(host) for host in body.hosts] if body.hosts is not None else None

        def write(session: Session) -> None:
            row = group_row(session, name)
            for key in body.model_fields_set & {"kind", "about", "where"}:
                setattr(row, key, getattr(body, key) or ("" if key == "about" else None))
            if "parent" in body.model_fields_set:
                row.parent = group_row(session, body.parent).id if body.parent else None
            if numbers is not None:
                session.execute(delete(tables.Member).where(tables.Member.group == row.id))
                session.add_all(tables.Member(group=row.id, host=n) for n in dict.fromkeys(numbers))
            audit(session, who, "group.put", name, **body.model_dump(exclude_unset=True, exclude={"hosts"}))

        self._state.write(write)
        self._directory.reload()
        self.changed.tell(name)

    def _host(self, name: str) -> int:
        known = self._directory.find(name)
        if known is None:
            raise bad_field("hosts", f"there is no host {name!r}")
        return known.id

    def delete(self, name: str, who: str) -> None:
        """Takes a group away; its hosts stay, and the groups below it move up."""

        def write(session: Session) -> None:
            row = session.scalar(select(tables.Group).where(tables.Group.name == name))
            if row is None:
                raise unknown("group", name)
            if row.kind == "site" and session.scalar(select(tables.Remote).where(tables.Remote.site == name).limit(1)):
                raise Refused(409, f"Hosts are collected by the relays of {name!r}: move them to another site first.")
            session.execute(update(tables.Group).where(tables.Group.parent == row.id).values(parent=row.parent))
            session.delete(row)
            audit(session, who, "group.delete", name)

        self._state.write(write)
        self._directory.reload()
        self.changed.tell(name)


def group_row(session: Session, name: str) -> tables.Group:
    """The group of a name, made if need be."""
    group = session.scalar(select(tables.Group).where(tables.Group.name == name))
    if group is None:
        group = tables.Group(name=name, position=session.scalar(select(func.count(tables.Group.id))) or 0)
        session.add(group)
        session.flush()
    return group


def join_group(session: Session, host: int, name: str) -> None:
    """Puts a host into a group, which is made if need be."""
    group = group_row(session, name)
    if session.get(tables.Member, (group.id, host)) is None:
        session.add(tables.Member(group=group.id, host=host))
        session.flush()


def leave_group(session: Session, host: int, name: str) -> None:
    """Takes a host off the list of a group; what a filter chooses stays chosen."""
    group = session.scalar(select(tables.Group).where(tables.Group.name == name))
    if group is not None:
        session.execute(delete(tables.Member).where(tables.Member.group == group.id, tables.Member.host == host))
