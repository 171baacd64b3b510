"""The book of alerts: opening, worsening, easing, acknowledging, recovering; and who is to be told."""

from __future__ import annotations

import json
import logging
import math
import time
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import or_, select, update
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session

from balise.api.alerts import Alert as AlertAnswer
from balise.api.rules import RuleBody
from balise.api.spans import rfc3339
from balise.core.rules.limits import OK
from balise.server.alerts.answers import alert_answer
from balise.server.alerts.opened import Open, OpenAlerts
from balise.server.alerts.telling import Listeners
from balise.server.errors import Refused, unknown
from balise.server.people.access import audit
from balise.server.signals import Signal
from balise.store.database import in_pieces
from balise.store.state.store import StateStore
from balise.store.state.tables import Alert, AlertStep

log = logging.getLogger(__name__)
_KEY = json.JSONEncoder(sort_keys=True, ensure_ascii=False)
Worse = Callable[[float, float], float]
"""The worse of two values."""
HOUR = 3600.0
LEARNT_LATE = "over before it was known"
SLACK = 60.0
"""Seconds by which an alert may be away from what is found later to be the same one."""
CALM = 1800.0
"""Seconds without a breach after which an alert that flaps recovers."""
LEARNT_AT_ONCE = 50
"""Alerts that were, and are written by one change."""
CAPTURED = 20
"""Alerts of one change whose evidence is kept as they open."""
EvidenceAt = Callable[[str, float, float], dict[str, Any]]


@dataclass(frozen=True)
class Turn:
    """A group of a rule that went to another level."""

    rule: str
    body: RuleBody
    unit: str
    key: str
    host: int | None
    host_name: str
    attributes: dict[str, str]
    level: int
    value: float
    bound: float
    since: float
    worse: Worse
    detail: dict[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class AlertChanged:
    """An alert as it is now, and what happened to it: `opened`, `worsened`, `recovered`, …"""

    alert: AlertAnswer
    what: str


class AlertBook:
    """All alerts."""

    def __init__(self, *, state: StateStore, evidence: EvidenceAt) -> None:
        """`evidence` answers what was going on at a host, by the moment of the opening and since when it is breached;
        it never raises."""
        self._state = state
        self._evidence = evidence
        self.unwritten = 0
        """Turns that could not be written."""
        self.changed = Signal[AlertChanged]("alert")
        self.open = OpenAlerts(state.read(lambda s: list(s.scalars(select(Alert).where(Alert.recovered_at.is_(None))))))

    def open_now(self) -> list[AlertAnswer]:
        """All open alerts, the worst and oldest first."""
        query = select(Alert).where(Alert.recovered_at.is_(None)).order_by(Alert.level.desc(), Alert.id)
        return [self.current(row) for row in self._state.read(lambda s: list(s.scalars(query)))]

    # --- what the rules find

    def apply(self, turns: Sequence[Turn], now: float, captured: int = CAPTURED) -> list[Turn]:
        """Writes turns, and who is to be told of them, in one transaction; answers those written. Of the first
        `captured` of them evidence is kept.

        One that cannot be written holds up no other. What cannot be kept at the moment, because the disk is full or
        the file is locked, is raised: then nothing is written, and the turns have to come again.
        """
        if not turns:
            return []
        kept = {
            i: self._evidence(t.host_name, now, t.since)
            for i, t in enumerate(turns[:captured])
            if t.level > OK and (t.rule, t.key) not in self.open and t.host_name
        }
        try:
            return self._apply(list(enumerate(turns)), kept, now)
        except OperationalError:
            raise
        except Exception as error:
            if len(turns) == 1:
                self.unwritten += 1
                log.exception("rule=%s group=%s cannot be written: %s", turns[0].rule, turns[0].key, error)
                return []
            written: list[Turn] = []
            for i, turn in enumerate(turns):
                try:
                    written += self._apply([(i, turn)], kept, now)
                except OperationalError:
                    raise
                except Exception:
                    self.unwritten += 1
                    log.exception("rule=%s group=%s cannot be written", turn.rule, turn.key)
            return written

    def _apply(self, turns: Sequence[tuple[int, Turn]], kept: dict[int, dict[str, Any]], now: float) -> list[Turn]:
        def write(session: Session) -> list[tuple[Alert, str]]:
            rows = self._open_rows(session, [turn for _, turn in turns])
            listeners = Listeners(session, [row.id for row in rows.values()])
            opened = {i: _new_alert(t, now, kept.get(i)) for i, t in turns if t.level > OK and _thing(t) not in rows}
            session.add_all(opened.values())
            session.flush()
            often = _opened_lately(session, [t for _, t in turns if t.level == OK and t.body.flaps_after], now)
            done = []
            for i, turn in turns:
                if i in opened:
                    done.append(_stepped(session, opened[i], "opened", now, listeners))
                elif (row := rows.get(_thing(turn))) is not None:
                    done.append(self._move(session, row, turn, now, listeners, often.get(_thing(turn), 0)))
            return done

        written = self._state.write(write)
        for row, _ in written:
            self.open.note(row)
        for row, what in written:
            self._tell(alert_answer(row), what)
        return [turn for _, turn in turns]

    def _open_rows(self, session: Session, turns: Sequence[Turn]) -> dict[tuple[str, str], Alert]:
        """The open alerts of what has turned, as they are written."""
        held = [one.id for turn in turns if (one := self.open.get(_thing(turn))) is not None]
        return {(row.rule, row.group_key): row for row in _rows(session, held)}

    def _tell(self, alert: AlertAnswer, what: str) -> None:
        log.info("alert=%d rule=%s host=%s severity=%s %s", alert.id, alert.rule, alert.host, alert.severity, what)
        self.changed.tell(AlertChanged(alert, what))

    def _move(
        self, session: Session, row: Alert, turn: Turn, now: float, listeners: Listeners, often: int
    ) -> tuple[Alert, str]:
        """An open alert goes to another level; `often` is how many times it opened within the last hour."""
        held = self.open[_thing(turn)]
        row.worst_value, row.silent = held.worst, False
        if not math.isnan(turn.value):
            row.value = turn.value
            row.worst_value = turn.worse(held.worst, turn.value)
        row.detail = {**(row.detail or {}), **turn.detail}
        if turn.level == OK:
            return _recovered(session, row, turn, now, listeners, often)
        if row.calm_since is not None:
            return _breached_again(session, row, turn, now, listeners)
        what = "worsened" if turn.level > row.level else "eased"
        row.level, row.changed_at, row.bound = turn.level, now, turn.bound
        return _stepped(session, row, what, now, listeners)

    def learn(self, over: Sequence[tuple[Turn, float]], now: float) -> None:
        """Keeps alerts that there would have been if what came late had come in time, each with when it recovered.
        Nobody is told of them, and one that there was already is not kept twice."""
        evidence = {
            i: self._evidence(turn.host_name, turn.since, turn.since)
            for i, (turn, _) in enumerate(over[:CAPTURED])
            if turn.host_name
        }

        for piece in in_pieces(list(enumerate(over)), LEARNT_AT_ONCE):
            # A few at a time: what happens now is written between them.
            for row in self._state.write(lambda session, piece=piece: _learn(session, piece, evidence, now)):  # type: ignore[misc]
                self._tell(alert_answer(row), "learnt late")

    def see(
        self, rule: str, key: str, value: float, silent: bool, detail: dict[str, float], worse: Worse, now: float
    ) -> None:
        """Takes note of an open alert's value now, and whether its data still comes."""
        held = self.open.get((rule, key))
        if held is None:
            return
        if held.calm_since is not None and now - held.calm_since >= CALM:
            self._end([held], "calm", now)
            return
        if detail and detail != held.detail:
            held.detail, held.moved = detail, True
        if not math.isnan(value) and value != held.value:
            held.value = value
            held.worst = worse(held.worst, value)
            held.moved = True
        if silent != held.silent:
            held.silent = silent
            number = held.id
            what = "silent" if silent else "heard again"

            def write(session: Session) -> Alert:
                row = session.get_one(Alert, number)
                row.silent = silent
                session.add(AlertStep(alert=number, at=now, what=what, level=row.level, value=None))
                return row

            self._tell(alert_answer(self._state.write(write)), what)

    def write_values(self) -> None:
        """Keeps the values of open alerts as they are now."""
        moved = [held for held in list(self.open.values()) if held.moved]
        for piece in in_pieces(moved):
            rows = []
            for held in piece:
                held.moved = False
                rows.append(
                    {"id": held.id, "value": held.value, "worst_value": held.worst, "detail": held.detail or None}
                )
            try:
                self._state.write(lambda s, rows=rows: s.execute(update(Alert), rows))  # type: ignore[misc]
            except Exception:
                for held in piece:
                    held.moved = True
                raise

    def end_of_rule(self, rule: str, why: str, now: float, *, keep: Callable[[str], bool] = lambda _key: False) -> None:
        """Ends a rule's open alerts because the rule changed or went away; whoever was told is told."""
        self._end([held for held in list(self.open.values()) if held.rule == rule and not keep(held.key)], why, now)

    def end_of_groups(self, rule: str, keys: Sequence[str], why: str, now: float) -> None:
        """Ends the open alerts of things that a rule does not look at any more; whoever was told is told."""
        self._end([held for key in keys if (held := self.open.get((rule, key)))], why, now)

    def end_of_host(self, host: int, why: str, now: float) -> None:
        """Ends a host's open alerts because it has left; whoever was told is told."""
        self._end([held for held in list(self.open.values()) if held.host == host], why, now)

    def _end(self, gone: Sequence[Open], why: str, now: float) -> None:
        if not gone:
            return

        def write(session: Session) -> list[Alert]:
            numbers = [held.id for held in gone]
            rows, listeners = _rows(session, numbers), Listeners(session, numbers)
            for row in rows:
                row.recovered_at, row.recovery = now, why
                session.add(AlertStep(alert=row.id, at=now, what="recovered", level=row.level, value=None, note=why))
                listeners.tell(row, "recovered", now)
            return rows

        rows = self._state.write(write)
        for row in rows:
            self.open.note(row)
        for row in rows:
            self._tell(alert_answer(row), "recovered")

    # --- what people do

    def acknowledge(self, number: int, who: str, note: str) -> AlertAnswer:
        now = time.time()

        def write(session: Session) -> Alert:
            row = session.get(Alert, number)
            if row is None:
                raise unknown("alert", number)
            if row.recovered_at is not None:
                raise Refused(409, "The alert has recovered: there is nothing left to acknowledge.")
            row.acknowledged_by, row.acknowledged_at, row.acknowledged_note = who, now, note
            session.add(AlertStep(alert=number, at=now, what="acknowledged", level=row.level, who=who, note=note))
            audit(session, who, "alert.acknowledge", str(number), rule=row.rule, host=row.host_name)
            return row

        answer = self.current(self._state.write(write))
        self._tell(answer, "acknowledged")
        return answer

    # --- reading

    def current(self, row: Alert) -> AlertAnswer:
        """An alert with its value of this moment."""
        held = self.open.get((row.rule, row.group_key))
        if held and held.id == row.id:
            row.value, row.worst_value = held.value, held.worst
            row.detail = held.detail or None
        return alert_answer(row)


def _new_alert(turn: Turn, now: float, evidence: dict[str, Any] | None) -> Alert:
    body = turn.body
    return Alert(
        rule=turn.rule,
        about=body.about,
        group_key=turn.key,
        host=turn.host,
        host_name=turn.host_name,
        attributes=dict(turn.attributes),
        measure=body.measure.model_dump(exclude_none=True),
        limits=body.limits.model_dump(exclude_none=True),
        advice=body.advice,
        unit=turn.unit,
        level=turn.level,
        silent=False,
        value=turn.value,
        worst_value=turn.value,
        bound=turn.bound,
        opened_at=now,
        changed_at=now,
        evidence=evidence,
        detail=turn.detail or None,
    )


def _learn(
    session: Session,
    over: Sequence[tuple[int, tuple[Turn, float]]],
    evidence: Mapping[int, dict[str, Any]],
    now: float,
) -> list[Alert]:
    """Keeps those of these alerts that were not known, by their numbers, each with when it recovered."""
    known = _stretches(session, [turn for _, (turn, _) in over])
    rows = []
    for number, (turn, recovered_at) in over:
        there = known.setdefault(_thing(turn), [])
        if any(first <= recovered_at + SLACK and last >= turn.since - SLACK for first, last in there):
            continue
        there.append((turn.since, recovered_at))
        row = _new_alert(turn, turn.since, evidence.get(number))
        row.recovered_at, row.recovery = recovered_at, LEARNT_LATE
        rows.append(row)
    session.add_all(rows)
    session.flush()
    told = f"what it was found by came late, and was there at {rfc3339(now)}"
    session.add_all(
        AlertStep(alert=row.id, at=at, what=what, level=row.level, value=row.value, note=note)
        for row in rows
        for at, what, note in ((row.opened_at, "opened", told), (row.recovered_at, "recovered", LEARNT_LATE))
    )
    return rows


def _stretches(session: Session, turns: Sequence[Turn]) -> dict[tuple[str, str], list[tuple[float, float]]]:
    """By what they are about, from when until when there were alerts of these groups."""
    found: dict[tuple[str, str], list[tuple[float, float]]] = {}
    for rule in {turn.rule for turn in turns}:
        mine = [turn for turn in turns if turn.rule == rule]
        first = min(turn.since for turn in mine) - SLACK
        ended = or_(Alert.recovered_at.is_(None), Alert.recovered_at >= first)
        keys = [turn.key for turn in mine]
        query = select(Alert.group_key, Alert.opened_at, Alert.recovered_at)
        for key, opened_at, recovered_at in session.execute(
            query.where(Alert.rule == rule, Alert.group_key.in_(keys), ended)
        ):
            found.setdefault((rule, key), []).append((opened_at, math.inf if recovered_at is None else recovered_at))
    return found


def _rows(session: Session, numbers: Sequence[int]) -> list[Alert]:
    """Alerts by their numbers, the oldest first."""
    found = [row for piece in in_pieces(numbers) for row in session.scalars(select(Alert).where(Alert.id.in_(piece)))]
    return sorted(found, key=lambda row: row.id)


def _thing(turn: Turn) -> tuple[str, str]:
    return turn.rule, turn.key


def _opened_lately(session: Session, turns: Sequence[Turn], now: float) -> Counter[tuple[str, str]]:
    """How many alerts of each of these things opened within the last hour."""
    found: Counter[tuple[str, str]] = Counter()
    for rule in {turn.rule for turn in turns}:
        keys = [turn.key for turn in turns if turn.rule == rule]
        for piece in in_pieces(keys):
            mine = (Alert.rule == rule, Alert.group_key.in_(piece), Alert.opened_at > now - HOUR)
            query = select(Alert.group_key).where(*mine)
            found.update((rule, key) for key in session.scalars(query))
    return found


def _recovered(
    session: Session, row: Alert, turn: Turn, now: float, listeners: Listeners, often: int
) -> tuple[Alert, str]:
    """It is over; one that opened too often in the last hour stays open until it has been calm."""
    if row.flapping_since is None and turn.body.flaps_after and often > turn.body.flaps_after:
        row.flapping_since = row.calm_since = now
        note = f"opened {often} times within an hour: it stays open until it has been calm for half an hour"
        return _stepped(session, row, "flapping", now, listeners, note)
    if row.flapping_since is not None:
        row.calm_since = now
        return row, "calm"
    row.recovered_at, row.recovery = now, "recovered"
    return _stepped(session, row, "recovered", now, listeners)


def _breached_again(session: Session, row: Alert, turn: Turn, now: float, listeners: Listeners) -> tuple[Alert, str]:
    """An alert that flaps and was calm is not: that is told only if it is worse than it was."""
    row.calm_since, row.bound = None, turn.bound
    worsened = turn.level > row.level
    row.level = max(turn.level, row.level)
    return _stepped(session, row, "worsened", now, listeners) if worsened else (row, "breached again")


def _stepped(
    session: Session, row: Alert, what: str, now: float, listeners: Listeners, note: str | None = None
) -> tuple[Alert, str]:
    session.add(AlertStep(alert=row.id, at=now, what=what, level=row.level, value=row.value, note=note))
    listeners.tell(row, what, now)
    return row, what


def group_key(attributes: dict[str, str]) -> str:
    """The name of a group of a rule, the same at every start."""
    return _KEY.encode(attributes)
