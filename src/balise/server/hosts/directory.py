"""The hosts there are, in memory: names, labels, groups, when each was last heard, and its state."""

from __future__ import annotations

import statistics
import threading
import time
from collections import deque
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from operator import attrgetter
from typing import Any

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from balise.api.hosts import State, Stretch
from balise.core import filters
from balise.core.filters import Compare, Filter, FilterError, Present
from balise.core.health import host_state
from balise.server.errors import Refused
from balise.server.signals import Signal
from balise.store.database import insert_into
from balise.store.state.columns import set_columns
from balise.store.state.store import StateStore
from balise.store.state.tables import Group, Host, Member, StateChange, Token

AGENT_INTERVAL = 15.0
REMEMBERED = 10_000
"""Changes of hosts remembered for those who follow them."""
SILENT_AT_LEAST = 45.0
MOST_HOSTS = 100_000
KEPT_CHANGES = 400


@dataclass
class Known:
    """One host as it is right now. Times in unix seconds."""

    id: int
    name: str
    labels: dict[str, str]
    groups: list[str]
    mode: str
    collected_by: str
    os: str
    state: State
    state_since: float
    last_seen: float | None
    machine_id: str = ""
    facts: dict[str, Any] = field(default_factory=dict)
    listed: list[str] = field(default_factory=list)
    """The groups that name this host; `groups` has those by filter and those above, too."""
    sites: list[str] = field(default_factory=list)
    applications: list[str] = field(default_factory=list)
    retired: bool = False
    gaps: deque[float] = field(default_factory=lambda: deque(maxlen=5))
    """Seconds between the last deliveries: the middle one is how often to expect the next, so no outage changes it."""
    delay: float | None = None
    cost: float | None = None
    problem: str | None = None
    refused: str | None = None
    """Why nothing of its last delivery was taken."""
    changes: list[Stretch] = field(default_factory=list)

    @property
    def interval(self) -> float:
        if len(self.gaps) < 3:
            return min(600.0, max(AGENT_INTERVAL, *self.gaps)) if self.gaps else AGENT_INTERVAL
        return min(600.0, statistics.median(self.gaps))

    def is_silent(self, now: float) -> bool:
        if self.last_seen is None or self.refused is not None:
            return True
        age = now - self.last_seen
        return age > SILENT_AT_LEAST and age > 3 * self.interval


def clean_name(text: str) -> str:
    """A name fit for an address and a page: printable, no slash, at most 100 characters."""
    return "".join(c for c in text.strip() if c.isprintable() and c not in "/\\?#%\"'<>").lstrip("(")[:100].strip()


@dataclass(frozen=True)
class KnownGroup:
    """One group: `parent` by name, `where` the filter that chooses more members."""

    name: str
    kind: str = "group"
    about: str = ""
    parent: str | None = None
    where: Filter | None = None
    text: str | None = None


@dataclass(frozen=True)
class Drawn:
    """The hosts and groups that are parts of an application."""

    name: str
    hosts: frozenset[str]
    groups: frozenset[str]


class Directory:
    """All hosts. `version` rises when a name, label or group changes, so that what was chosen by them is redone."""

    def __init__(self, state: StateStore) -> None:
        self._state = state
        self._lock = threading.Lock()
        self.version = 0
        self._by_id: dict[int, Known] = {}
        self._by_name: dict[str, Known] = {}
        self._in_order: list[Known] | None = None
        """Those that are here, by name; None when they have to be put in order anew."""
        self.groups: dict[str, KnownGroup] = {}
        self._applications: list[Drawn] = []
        self._heard: set[int] = set()
        self._changes: deque[tuple[int, int]] = deque(maxlen=REMEMBERED)
        self.state_changed = Signal[Known]("state of a host")
        self.reload()

    def reload(self) -> None:
        """Reads hosts and groups anew; what was heard lately stays."""
        self._read(None)

    def refresh(self, *numbers: int) -> None:
        """Reads these hosts anew, because they changed."""
        self._read(numbers)

    def _read(self, numbers: Iterable[int] | None) -> None:
        chosen = None if numbers is None else list(numbers)

        def read(session: Session) -> tuple[list[Host], list[Group], list[Member], list[StateChange]]:
            hosts, members = select(Host).order_by(Host.name), select(Member)
            past = select(StateChange).where(StateChange.at > time.time() - 8 * 86_400)
            if chosen is not None:
                hosts, members = hosts.where(Host.id.in_(chosen)), members.where(Member.host.in_(chosen))
                past = past.where(StateChange.host.in_(chosen))
            return (
                list(session.scalars(hosts)),
                list(session.scalars(select(Group).order_by(Group.position, Group.id))),
                list(session.scalars(members)),
                list(session.scalars(past.order_by(StateChange.host, StateChange.at))),
            )

        hosts, groups, members, changes = self._state.read(read)
        changed: list[int] = []
        names = {g.id: g.name for g in groups}
        of_host: dict[int, list[str]] = {}
        for member in members:
            of_host.setdefault(member.host, []).append(names[member.group])
        past: dict[int, list[Stretch]] = {}
        for change in changes:
            past.setdefault(change.host, []).append(Stretch(at=change.at, state=change.state))  # type: ignore[arg-type]
        with self._lock:
            self._in_order = None
            groups_before = self.groups
            self.groups = {g.name: _known_group(g, names) for g in groups}
            order = {name: place for place, name in enumerate(self.groups)}
            for row in hosts:
                if row.name.startswith("("):
                    # Erased, or on the way: no name that anybody can give begins so.
                    gone_row = self._by_id.pop(row.id, None)
                    if gone_row is not None:
                        self._by_name.pop(gone_row.name, None)
                        changed.append(row.id)
                    continue
                before = self._by_id.get(row.id)
                known = self._keep(row, of_host.get(row.id, []), order, past.get(row.id, []))
                if before is None or _chosen_by(before) != _chosen_by(known):
                    changed.append(row.id)
            missing = (set(self._by_id) if chosen is None else set(chosen)) - {row.id for row in hosts}
            for number in missing & set(self._by_id):
                del self._by_name[self._by_id.pop(number).name]
                changed.append(number)
            if changed or groups_before != self.groups:
                self.version += 1
                self._changes.extend((self.version, number) for number in changed)

    def _keep(self, row: Host, listed: list[str], order: dict[str, int], past: list[Stretch]) -> Known:
        before = self._by_id.get(row.id)
        same = before if before and (before.mode, before.collected_by) == (row.mode, row.collected_by) else None
        known = Known(
            id=row.id,
            name=row.name,
            labels={str(k): str(v) for k, v in row.labels.items()},
            groups=[],
            mode=row.mode,
            collected_by=row.collected_by,
            os=str((row.facts or {}).get("os", "")),
            state=before.state if before else row.state,  # type: ignore[arg-type]
            state_since=before.state_since if before else row.state_since,
            last_seen=before.last_seen if before else row.last_seen,
            machine_id=row.machine_id,
            facts=row.facts or {},
            listed=sorted(listed, key=order.__getitem__),
            retired=row.retired_at is not None,
            gaps=same.gaps if same else deque(maxlen=5),
            delay=same.delay if same else None,
            cost=same.cost if same else None,
            problem=same.problem if same else None,
            changes=before.changes if before and before.changes else past[-KEPT_CHANGES:],
        )
        known.groups = sorted(self._groups_of(known), key=order.__getitem__)
        known.sites = self._sites_of(known)
        known.applications = self._applications_of(known)
        if before:
            self._by_name.pop(before.name, None)
        self._by_id[row.id] = known
        self._by_name[row.name] = known
        self._in_order = None
        return known

    def _groups_of(self, known: Known) -> set[str]:
        """The groups that list a host, those whose filter it passes, and those above them."""
        found: set[str] = set()
        for group in self.groups.values():
            chosen = group.name in known.listed or (
                group.where is not None and filters.matches(group.where, lambda name: attribute_of(known, name))
            )
            if chosen:
                found.update(self.lineage(group.name))
        return found

    def _sites_of(self, known: Known) -> list[str]:
        """The sites a host is at: groups that are sites, else what its label says."""
        sites = [name for name in known.groups if self.groups[name].kind == "site"]
        label = known.labels.get("site")
        return sites or ([label] if label else [])

    def _applications_of(self, known: Known) -> list[str]:
        return [
            drawn.name
            for drawn in self._applications
            if known.name in drawn.hosts or not drawn.groups.isdisjoint(known.groups)
        ]

    def draw(self, applications: Iterable[Drawn]) -> None:
        """Takes up which hosts and groups are parts of which applications."""
        with self._lock:
            self._applications = list(applications)
            changed = []
            for known in self._by_id.values():
                found = self._applications_of(known)
                if found != known.applications:
                    known.applications = found
                    changed.append(known.id)
            if changed:
                self.version += 1
                self._changes.extend((self.version, number) for number in changed)

    def changed_since(self, version: int) -> set[int]:
        """The hosts of which something changed that filters ask, after an earlier `version`."""
        with self._lock:
            held = list(self._changes)
            if len(held) == REMEMBERED and held[0][0] > version + 1:
                return set(self._by_id)
            return {number for at, number in held if at > version}

    def lineage(self, group: str | None) -> list[str]:
        """A group and those above it, the nearest first."""
        found: list[str] = []
        while group is not None and group in self.groups and group not in found:
            found.append(group)
            group = self.groups[group].parent
        return found

    # --- asking

    def all(self) -> list[Known]:
        """All hosts but those that have left, by name."""
        held = self._in_order
        if held is None:
            with self._lock:
                here = (known for known in self._by_id.values() if not known.retired)
                held = self._in_order = sorted(here, key=attrgetter("name"))
        return held.copy()

    def retired(self) -> list[Known]:
        return [known for known in list(self._by_id.values()) if known.retired]

    def is_here(self, host: int) -> bool:
        """Whether there is such a host and it has not left."""
        known = self._by_id.get(host)
        return known is not None and not known.retired

    def names_here(self, hosts: Iterable[int]) -> dict[int, str]:
        """The names of those of some hosts that `is_here` knows."""
        held = self._by_id
        return {host: known.name for host in hosts if (known := held.get(host)) is not None and not known.retired}

    def get(self, number: int) -> Known | None:
        return self._by_id.get(number)

    def find(self, name: str) -> Known | None:
        return self._by_name.get(name)

    def name(self, host: int) -> str | None:
        known = self._by_id.get(host)
        return known.name if known else None

    def attribute(self, host: int, name: str) -> Any:
        """What a filter may ask of a host."""
        known = self._by_id.get(host)
        return None if known is None else attribute_of(known, name)

    def attribute_of(self, name: str, attribute: str) -> Any:
        """`attribute` of the host of a name; None when there is no such host."""
        known = self._by_name.get(name)
        return None if known is None else attribute_of(known, attribute)

    def matching(self, node: Filter | None, *, of: list[Known] | None = None) -> list[Known]:
        """The hosts that pass a filter, of all that are here unless others are given."""
        chosen = self.all() if of is None else of
        if node is None:
            return chosen
        return [k for k in chosen if filters.matches(node, lambda name, k=k: attribute_of(k, name))]  # type: ignore[misc]

    def names_matching(self, term: Compare | Present) -> list[str]:
        return [k.name for k in self.matching(term)]

    # --- changing

    def ensure(self, name: str) -> Known:
        """The host of a name, made when it was not there.

        Raises:
            Refused: 422 when there are as many hosts as there may be, or the name has nothing readable.
        """
        name = clean_name(name)
        known = self._by_name.get(name)
        if known:
            if known.retired:
                raise Refused(409, f"The host {name!r} is retired: enrol it again, or send under another name.")
            return known
        if not name:
            raise Refused(422, "The resource has no readable host.name.")
        if len(self._by_id) >= MOST_HOSTS:
            raise Refused(422, f"There are {MOST_HOSTS} hosts already: remove some first.")
        self.ensure_all([(name, None, None)])
        return self._by_name[name]

    def ensure_all(self, asked: Sequence[tuple[str, int | None, int | None]]) -> None:
        """Makes the hosts of several names that are not there in one transaction. Each comes with a token and how many
        that may make; those that may not be made are left out."""
        room = MOST_HOSTS - len(self._by_id)
        names = {clean_name(name): (token, most) for name, token, most in asked}
        wanted = [(name, *by) for name, by in names.items() if name and name not in self._by_name][: max(0, room)]

        def add(session: Session) -> list[Host]:
            there = session.scalars(select(Host).where(Host.name.in_([name for name, *_ in wanted]))).all()
            held = {row.name for row in there}
            tokens = {token: session.get(Token, token) for _, token, most in wanted if most is not None}
            now = time.time()
            made = []
            for name, token, most in wanted:
                if name in held:
                    continue
                if most is not None:
                    by = tokens[token]
                    if by is None or by.new_hosts >= most:
                        continue
                    by.new_hosts += 1
                made.append(Host(name=name, created_at=now, state_since=now, state="ok", last_seen=now))
            session.add_all(made)
            session.flush()
            session.expunge_all()
            return [*there, *made]

        self._take_up(*self._state.write(add))

    def _take_up(self, *rows: Host) -> None:
        """Hosts that nothing is known of but their rows."""
        with self._lock:
            places = {name: place for place, name in enumerate(self.groups)}
            for row in rows:
                if row.id not in self._by_id:
                    self._keep(row, [], places, [])
                    self.version += 1
                    self._changes.append((self.version, row.id))

    def set_mode(self, number: int, mode: str) -> None:
        """How a host is known from now on."""
        self._state.write(lambda s: s.execute(update(Host).where(Host.id == number).values(mode=mode)))
        self.refresh(number)

    def heard(self, number: int, sent_at: float, now: float) -> None:
        """Something of a host arrived at `now` that was measured at `sent_at`."""
        known = self._by_id.get(number)
        if known is None:
            return
        if known.last_seen is not None:
            gap = now - known.last_seen
            if gap > 1.0:
                known.gaps.append(gap)
        known.refused = None
        known.last_seen = now
        known.delay = max(0.0, now - sent_at)
        self._heard.add(number)

    def refused(self, number: int, why: str) -> None:
        """Of all that a host sent just now, nothing was taken."""
        known = self._by_id.get(number)
        if known is not None:
            known.refused = why[:300]

    def write_heard(self) -> None:
        """Keeps when hosts were last heard, so that it is known after a restart."""
        heard, self._heard = self._heard, set()
        try:
            rows = [(n, known.last_seen) for n in sorted(heard) if (known := self._by_id.get(n)) is not None]
            self._state.set_columns([Host.last_seen], rows)
        except Exception:
            self._heard |= heard
            raise

    def judge(self, severities: dict[int, list[str]], now: float, paused: Collection[int] = frozenset()) -> list[Known]:
        """Works out every host's state anew from its open alerts, and from who is in maintenance; writes and answers
        those that changed."""
        changed = []
        for known in self.all():
            state = host_state(severities.get(known.id, ()), silent=known.is_silent(now), paused=known.id in paused)
            if state != known.state or not known.changes:
                known.state, known.state_since = state, now
                known.changes.append(Stretch(at=now, state=state))
                del known.changes[:-KEPT_CHANGES]
                changed.append(known)
        if changed:
            self._write_states(changed, now)
            for known in changed:
                self.state_changed.tell(known)
        return changed

    def _write_states(self, changed: Iterable[Known], now: float) -> None:
        rows = [(k.id, k.state) for k in changed]

        def write(session: Session) -> None:
            there = set(session.scalars(select(Host.id).where(Host.id.in_([n for n, _ in rows]))))
            told = [(number, state) for number, state in rows if number in there]
            if told:
                made = [{"host": n, "at": now, "state": state} for n, state in told]
                insert_into(session.connection(), StateChange.__table__, made)
                set_columns(session, [Host.state, Host.state_since], [(n, state, now) for n, state in told])

        self._state.write(write)


def _chosen_by(known: Known) -> tuple[object, ...]:
    """What of a host decides which rules, groups and plans are for it."""
    belongs = (known.groups, known.sites, known.applications)
    return (known.name, known.labels, *belongs, known.mode, known.collected_by, known.os, known.facts, known.retired)


def attribute_of(known: Known, name: str) -> Any:
    """`host`, `name`, `group`, `site`, `application`, `state`, `os`, `mode`, `label.…` and `fact.…` of a host, in small
    or capital letters."""
    name = filters.fold_name(name)
    if name in ("host", "name"):
        return known.name
    if name.startswith("label."):
        return _of(known.labels, name[6:])
    if name.startswith("fact."):
        return _of(known.facts, name[5:])
    if name in ("group", "site", "application"):
        return getattr(known, f"{name}s")
    if name in ("state", "os", "mode"):
        return getattr(known, name)
    return None


def _of(held: Mapping[str, Any], name: str) -> Any:
    return held[name] if name in held else filters.by_name(held.items()).get(name)


def _known_group(row: Group, names: dict[int, str]) -> KnownGroup:
    try:
        where = filters.parse(row.where) if row.where else None
    except FilterError:
        # Written by another version: such a group has its listed members alone until it is put right.
        where = None
    return KnownGroup(row.name, row.kind, row.about, names.get(row.parent or 0), where, row.where)
