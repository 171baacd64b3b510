"""The book of incidents: alerts put where they belong, and what becomes of each incident."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import partial
from typing import TypeVar

from sqlalchemy import delete, func, select, update
from sqlalchemy.orm import Session, defer

from balise.core.incidents.around import Breached
from balise.core.incidents.grouping import Grouping
from balise.core.incidents.titles import title
from balise.server.alerts.book import LEARNT_LATE
from balise.server.hosts.directory import Directory
from balise.server.incidents.members import Member, member_of
from balise.server.incidents.surroundings import Surroundings
from balise.server.incidents.words import ALL_OVER, add_words_to_listeners
from balise.server.signals import Signal
from balise.store.state.store import StateStore
from balise.store.state.tables import (
    Alert,
    AlertStep,
    CalloutRun,
    Delivery,
    Heard,
    Incident,
    IncidentAlert,
    IncidentLine,
    ResponseRun,
    Word,
)

R = TypeVar("R")
AT_ONCE = 1000
"""Steps of alerts that are taken in by one change."""
CALM = 600.0
"""Seconds without an open alert after which an incident is closed."""
RECURS_WITHIN = 86_400.0
SETTLE_EVERY = 60.0
REMEMBERED = 1800.0
"""Seconds for which an alert that is over is still among those that new ones may belong to."""
SHOWN_HOSTS = 200


class IncidentBook:
    """All incidents. What alerts do is taken in from their steps, each exactly once, in order."""

    def __init__(
        self,
        *,
        state: StateStore,
        directory: Directory,
        surroundings: Surroundings,
        paused: Callable[[], Mapping[int, str]],
    ) -> None:
        """`paused` answers the hosts that are in maintenance."""
        self._state = state
        self._directory = directory
        self._surroundings = surroundings
        self._paused = paused
        self._wake = threading.Event()
        self._lock = threading.RLock()
        """Held while memory and records change together."""
        self.changed = Signal[int]("incident")
        self.changes = 0
        """How often anything was changed."""
        self._state.write(_adopt)
        self._load()

    def _load(self) -> None:
        """Reads the open incidents anew, as they are written."""
        self._members: dict[int, Member] = {}
        self._settled = 0.0
        """Up to when incidents that were calm have been closed while steps were taken in."""
        self._of_thing: dict[tuple[str, str], int] = {}
        self._hosts: dict[int, set[str]] = {}
        self._session: Session | None = None
        self.grouping = Grouping(self._surroundings, self._new)

        def read(session: Session) -> list[tuple[Incident, list[tuple[Alert, int | None]]]]:
            found = []
            for row in session.scalars(select(Incident).where(Incident.state == "open").order_by(Incident.id)):
                query = select(Alert, IncidentAlert.held_under).join(IncidentAlert, IncidentAlert.alert == Alert.id)
                query = query.where(IncidentAlert.incident == row.id).order_by(Alert.id).options(defer(Alert.evidence))
                found.append((row, [(alert, under) for alert, under in session.execute(query)]))
            return found

        unknown = select(AlertStep.alert).where(AlertStep.placed.is_(False)).distinct()
        ahead = set(self._state.read(lambda s: list(s.scalars(unknown))))
        now = time.time()
        for row, alerts in self._state.read(read):
            self._hosts[row.id] = {alert.host_name for alert, _ in alerts if alert.host_name}
            members = [(member_of(alert, is_ahead=alert.id in ahead), under) for alert, under in alerts]
            kept = [(m, under) for m, under in members if m.over_at is None or now - m.over_at < REMEMBERED]
            self._remember(m for m, _ in kept)
            there = {m.number for m, _ in kept}
            self.grouping.restore(
                row.id,
                row.apart,
                [(self._breached(m), under if under in there else None) for m, under in kept],
            )

    # --- what there is

    def members(self, incident: int) -> list[Member]:
        """The alerts of an open incident, those that are over only for a while."""
        return [m for n in self.grouping.members(incident) if (m := self._members.get(n)) is not None]

    def told_level(self, incident: int) -> int:
        """The worst of its open alerts that are not kept back by maintenance; 0 for none."""
        paused = self._paused()
        return max((m.level for m in self.members(incident) if m.host not in paused), default=0)

    def _breached(self, member: Member) -> Breached:
        return member.breached(self._directory, self._surroundings.drawn(member.host_name, member.service))

    # --- taking in

    def wake(self) -> None:
        """There is something new to take in."""
        self._wake.set()

    def wait(self, longest: float) -> None:
        """Until there is something new to take in, or as long as this, seconds."""
        self._wake.wait(longest)
        self._wake.clear()

    def take_in(self, now: float) -> bool:
        """Takes in the next steps of alerts, as many as one change may have; answers whether there may be more."""
        waiting = select(AlertStep.id).where(AlertStep.placed.is_(False)).limit(1)
        if self._state.read(lambda s: s.scalar(waiting)) is None:
            return False
        touched, count = self.change(lambda s: self._take_in(s, now))
        for number in sorted(touched):
            self.changed.tell(number)
        return count == AT_ONCE

    def change(self, write: Callable[[Session], R]) -> R:
        """Changes memory and records together: if the records cannot be written, memory is what they are again."""
        with self._lock:
            try:
                self.changes += 1
                return self._state.write(write)
            except Exception:
                self._load()
                raise

    def _take_in(self, session: Session, now: float) -> tuple[set[int], int]:
        query = select(AlertStep).where(AlertStep.placed.is_(False)).order_by(AlertStep.id).limit(AT_ONCE)
        steps = list(session.scalars(query))
        wanted = {step.alert for step in steps}
        rows = session.scalars(select(Alert).where(Alert.id.in_(wanted)).options(defer(Alert.evidence)))
        alerts = {row.id: row for row in rows}
        there = set(session.scalars(select(IncidentAlert.alert).where(IncidentAlert.alert.in_(wanted))))
        touched: set[int] = set()
        self._session = session
        try:
            for step in steps:
                touched |= self._step(session, step, alerts[step.alert], now, is_known=step.alert in there)
        finally:
            self._session = None
        session.execute(update(AlertStep), [{"id": step.id, "placed": True} for step in steps])
        for number in touched:
            self.refresh(session, number, now)
        return touched, len(steps)

    def _step(self, session: Session, step: AlertStep, row: Alert, now: float, *, is_known: bool) -> set[int]:
        """`is_known` says that the alert was in an incident before."""
        member = self._members.get(row.id)
        if step.what == "opened":
            if member is None and row.recovery != LEARNT_LATE and not is_known:
                return self._open(session, row, step.level, now)
            return set()
        if member is None or step.what not in ("worsened", "eased", "flapping", "recovered"):
            return set()
        over = step.what == "recovered"
        member.level, member.over_at = (0, step.at) if over else (step.level, None)
        member.worst = max(member.worst, step.level)
        number = self.grouping.incident_of(row.id)
        return {number} if number is not None else set()

    def _open(self, session: Session, row: Alert, level: int, now: float) -> set[int]:
        if row.opened_at - self._settled > SETTLE_EVERY:
            # What was calm by then was over, however late this is looked at.
            self._settled = row.opened_at
            self._close_before(session, row.opened_at)
        member = member_of(row)
        if row.recovered_at is not None:
            member.level, member.over_at = level, None
        self._forget_before(member)
        self._members[row.id] = member
        placed = self.grouping.place(self._breached(member))
        self._hosts.setdefault(placed.incident, set())
        if row.host_name:
            self._hosts[placed.incident].add(row.host_name)
        session.add(
            IncidentAlert(
                alert=row.id,
                incident=placed.incident,
                at=row.opened_at,
                held_under=placed.held_under,
                why=placed.why,
                why_held=placed.why_held,
            )
        )
        if placed.held or placed.joined:
            session.flush()
        if placed.held:
            held = [{"alert": n, "held_under": row.id, "why_held": why} for n, why in placed.held.items()]
            session.execute(update(IncidentAlert), held)
        for other in placed.joined:
            self.merge(session, placed.incident, other, placed.why, None, now)
        return {placed.incident}

    def _remember(self, members: Iterable[Member]) -> None:
        for member in members:
            self._members[member.number] = member
            self._of_thing[member.rule, member.key] = member.number

    def _forget_before(self, member: Member) -> None:
        """The same thing breached before and recovered: it need not be known twice."""
        before = self._of_thing.get((member.rule, member.key))
        if before is not None:
            self.drop([before])
        self._of_thing[member.rule, member.key] = member.number

    def _new(self, alert: Breached) -> int:
        """The incident that an alert without others opens, or opens again."""
        session = self._session
        assert session is not None
        row = session.get_one(Alert, alert.number)
        before = self._recurs(session, row)
        if before is not None:
            if before.state == "closed":
                reopen(session, before, "alert", f"it came again: {row.about} on {row.host_name}", None, row.opened_at)
                self._hosts[before.id] = set(before.hosts)
            return before.id
        made = Incident(
            title=row.about, level=row.level, opened_at=row.opened_at, told={}, hurts=[], hosts=[], apart=[]
        )
        session.add(made)
        session.flush()
        return made.id

    @staticmethod
    def _recurs(session: Session, row: Alert) -> Incident | None:
        """The last incident of the same rule on the same thing, if that is not long ago."""
        query = (
            select(Incident)
            .join(IncidentAlert, IncidentAlert.incident == Incident.id)
            .join(Alert, Alert.id == IncidentAlert.alert)
            .where(Alert.rule == row.rule, Alert.group_key == row.group_key, Alert.id != row.id, Incident.of == "")
            .where(Incident.joined_into.is_(None))
            .order_by(Alert.id.desc())
            .limit(1)
        )
        found = session.scalar(query)
        if found is None or (found.closed_at is not None and row.opened_at - found.closed_at > RECURS_WITHIN):
            return None
        return found

    # --- what becomes of them

    def merge(self, session: Session, into: int, other: int, why: str, who: str | None, now: float) -> None:
        """Another incident is a part of this one from now on; the grouping knows already."""
        mine, gone = session.get_one(Incident, into), session.get_one(Incident, other)
        told = {(h.channel, h.person): h for h in session.scalars(select(Heard).where(Heard.incident == into))}
        for heard in list(session.scalars(select(Heard).where(Heard.incident == other))):
            before = told.get((heard.channel, heard.person))
            if before is not None:
                # Whoever was told of both is told of one from now on.
                before.over = before.over and heard.over
                session.delete(heard)
        session.flush()
        for table in (IncidentAlert, Heard, Word, Delivery):
            session.execute(update(table).where(table.incident == other).values(incident=into))
        for run, name in ((CalloutRun, CalloutRun.callout), (ResponseRun, ResponseRun.response)):
            have = select(name).where(run.incident == into).scalar_subquery()
            session.execute(update(run).where(run.incident == other, name.not_in(have)).values(incident=into))
            session.execute(delete(run).where(run.incident == other))
        mine.opened_at = min(mine.opened_at, gone.opened_at)
        if mine.taken_by is None:
            mine.taken_by, mine.taken_at = gone.taken_by, gone.taken_at
        if not mine.told:
            mine.told = gone.told
        gone.state, gone.closed_at, gone.joined_into = "closed", now, into
        add_line(session, into, now, "joined", f"incident {other} ({gone.title}) is a part of this one: {why}", who)
        add_line(session, other, now, "joined", f"it is a part of incident {into} now: {why}", who)
        self._hosts.setdefault(into, set()).update(self._hosts.pop(other, set()))

    def hold_again(self, session: Session, number: int) -> None:
        """Alerts that came to be together are held under their causes."""
        held = [
            {"alert": alert, "held_under": under, "why_held": why}
            for alert, (under, why) in self.grouping.hold_again(number).items()
        ]
        if held:
            session.execute(update(IncidentAlert), held)

    def refresh(self, session: Session, number: int, now: float) -> None:
        """Writes what an incident is now, by its alerts."""
        row = session.get(Incident, number)
        if row is None or row.of or row.state != "open":
            return
        members = self.members(number)
        live = [m for m in members if m.level]
        count = select(func.count()).select_from(IncidentAlert).where(IncidentAlert.incident == number)
        row.alert_count = session.scalar(count) or 0
        row.open_count = len(live)
        hosts = self._hosts.get(number, set())
        row.host_count, row.hosts = len(hosts), sorted(hosts)[:SHOWN_HOSTS]
        if not live and row.recovered_at is not None:
            return
        if live:
            row.recovered_at = None
            row.level = max(m.level for m in live)
        elif members:
            row.recovered_at = max((m.over_at or now for m in members), default=now)
        shown = live or members
        if shown:
            hurt = self._surroundings.hurt_by(shown)
            row.hurts = [one.model_dump() for one in hurt]
            first = self.cause_of(shown)
            row.title = title(first.about, first.service, first.host_name, {m.host_name for m in shown}, hurt)

    def cause_of(self, members: Sequence[Member]) -> Member:
        """The alert that an incident is called by: the worst that is held under no other, the oldest first."""
        return min(
            members,
            key=lambda m: (
                self.grouping.held_under(m.number) is not None,
                -(m.level or m.worst),
                m.opened_at,
                m.number,
            ),
        )

    def _close_before(self, session: Session, at: float) -> None:
        """Closes what had been calm for long enough at a moment."""
        for number in sorted(self.grouping.incidents()):
            members = self.members(number)
            if all(not m.level and m.over_at is not None and m.over_at < at - CALM for m in members):
                self.refresh(session, number, at)
                self._close_calm(session, number=number, now=at)

    def settle(self, now: float) -> None:
        """Closes what has been calm for long enough, and forgets alerts that have been over for long."""
        calm = select(Incident.id).where(Incident.state == "open", Incident.recovered_at < now - CALM)
        due = self._state.read(lambda s: list(s.scalars(calm.limit(AT_ONCE))))
        for number in due:
            self.change(partial(self._close_calm, number=number, now=now))
            self.changed.tell(number)
        with self._lock:
            old = [m.number for m in self._members.values() if m.over_at is not None and now - m.over_at > REMEMBERED]
            self.drop(old)

    def _close_calm(self, session: Session, *, number: int, now: float) -> None:
        row = session.get_one(Incident, number)
        if row.state == "open" and row.recovered_at is not None:
            closed = min(now, row.recovered_at + CALM)
            add_line(session, number, closed, "closed", "all that was wrong has recovered and stayed so", None)
            # Where all of it is learnt late, they have not been told yet that it is over.
            add_words_to_listeners(session, number, "recovered", ALL_OVER, now)
            self.end(session, row, closed, None, None)

    def end(self, session: Session, row: Incident, now: float, who: str | None, why: str | None) -> None:
        """Closes an incident: nothing that opens belongs to it any more, unless it comes again."""
        row.state, row.closed_at, row.closed_by, row.closing_note = "closed", now, who, why
        row.snoozed_until = row.snoozed_level = None
        session.execute(delete(CalloutRun).where(CalloutRun.incident == row.id))
        self.drop(self.grouping.members(row.id))
        self._hosts.pop(row.id, None)

    def hosts_parted(self, *incidents: int) -> None:
        """Alerts have gone from one incident to another: the hosts of both are those of their alerts."""
        for number in incidents:
            self._hosts[number] = {m.host_name for m in self.members(number) if m.host_name}

    def drop(self, alerts: Iterable[int]) -> None:
        """Alerts that nothing belongs to any more."""
        for number in list(alerts):
            self.grouping.leave(number)
            gone = self._members.pop(number, None)
            if gone is not None and self._of_thing.get((gone.rule, gone.key)) == number:
                del self._of_thing[gone.rule, gone.key]

    def take_back(self, session: Session, row: Incident) -> None:
        """The alerts of a closed incident that are still open are its own again."""
        query = select(Alert).join(IncidentAlert, IncidentAlert.alert == Alert.id)
        query = query.where(IncidentAlert.incident == row.id, Alert.recovered_at.is_(None))
        members = [member_of(alert) for alert in session.scalars(query.options(defer(Alert.evidence)))]
        self._remember(members)
        self._hosts[row.id] = set(row.hosts) | {m.host_name for m in members if m.host_name}
        self.grouping.restore(row.id, row.apart, [(self._breached(m), None) for m in members])


def add_line(session: Session, incident: int, at: float, kind: str, text: str, who: str | None) -> None:
    """Puts a line into an incident's story."""
    session.add(IncidentLine(incident=incident, at=at, kind=kind, text=text[:2000], who=who))


def reopen(session: Session, row: Incident, kind: str, why: str, who: str | None, now: float) -> None:
    """A closed incident is open again, and callouts begin anew."""
    row.state, row.closed_at, row.closed_by, row.closing_note, row.recovered_at = "open", None, None, None, None
    row.reopened += 1
    row.taken_by = row.taken_at = None
    row.told = {}
    add_line(session, row.id, now, kind, why, who)


def _adopt(session: Session) -> None:
    """Alerts that are open and in no incident, from before there were any, are taken in."""
    alone = select(Alert.id).where(Alert.recovered_at.is_(None), Alert.id.not_in(select(IncidentAlert.alert)))
    opened = (AlertStep.what == "opened", AlertStep.alert.in_(alone))
    session.execute(update(AlertStep).where(*opened).values(placed=False))
