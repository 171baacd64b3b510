"""Callouts at work on incidents: who is to be told next. Every step is written down with what follows from it."""

from __future__ import annotations

import logging
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import delete, exists, func, select
from sqlalchemy.orm import Session

from balise.api.hosts import STATES_WORST_FIRST, State
from balise.api.spans import seconds
from balise.core import filters
from balise.core.callouts.course import Course, begin, go_on, hasten
from balise.core.callouts.hours import holds
from balise.core.rules.limits import CRITICAL, WARNING
from balise.server.callouts.book import CalloutBook, Ready
from balise.server.callouts.ways import Nobody, Way, ways_to
from balise.server.hosts.directory import Directory
from balise.server.incidents.answers import told_nobody
from balise.server.incidents.book import IncidentBook, add_line
from balise.server.incidents.facts import incident_facts
from balise.server.incidents.words import ALL_OVER, add_word, add_words_to_listeners
from balise.store.state.store import StateStore
from balise.store.state.tables import CalloutRun, Channel, Drill, Heard, Incident, Word

log = logging.getLogger(__name__)
UNTOLD_AFTER, MOST_UNTOLD = 60.0, 20
"""Seconds after which a critical incident that nobody is told of is a warning, and how many are named."""
DRILL_ENDS_AFTER = 600.0
"""Seconds after its last step in which a drill can be answered."""


_OPEN = select(Incident.id).where(Incident.state == "open").scalar_subquery()


@dataclass
class _Held:
    """An open incident as it is written: its callouts at work, how many listen, and what waits to be told."""

    row: Incident
    runs: dict[str, CalloutRun] = field(default_factory=dict)
    listeners: int = 0
    words: int = 0
    endings: int = 0
    drill: Drill | None = None


class Calling:
    """Looks at the open incidents again and again."""

    def __init__(
        self, *, state: StateStore, directory: Directory, incidents: IncidentBook, callouts: CalloutBook
    ) -> None:
        self._state = state
        self._directory = directory
        self._incidents = incidents
        self._callouts = callouts
        self._matches: dict[int, tuple[Any, list[str]]] = {}
        """Which callouts are for an incident, as it was when that was worked out."""
        self.failed = 0
        """How often nothing could be done with an incident."""

    def look(self, now: float) -> None:
        """Does what is due with every open incident. One with which nothing can be done holds up no other."""
        held = self._state.read(_held)
        self._matches = {one.row.id: self._matches[one.row.id] for one in held if one.row.id in self._matches}
        for one in held:
            try:
                self._look_at(one, now)
            except Exception:
                self.failed += 1
                log.exception("incident=%d: what is due cannot be done", one.row.id)

    def warnings(self, now: float) -> list[str]:
        """Critical incidents of which nobody is told, because no callout is for them."""
        critical = (
            Incident.state == "open",
            Incident.level >= CRITICAL,
            Incident.opened_at < now - UNTOLD_AFTER,
            # Most are told, and need not be looked at one by one.
            ~exists().where(CalloutRun.incident == Incident.id),
            ~exists().where(Heard.incident == Incident.id),
        )

        def read(session: Session) -> list[Incident]:
            rows = session.scalars(select(Incident).where(*critical).order_by(Incident.id))
            return [row for row in rows if told_nobody(session, row)]

        rows = self._state.read(read)[:MOST_UNTOLD]
        numbers = [row.id for row in rows if self._incidents.told_level(row.id) >= CRITICAL]
        if not numbers:
            return []
        listed = ", ".join(map(str, numbers))
        one = "Incident" if len(numbers) == 1 else "Incidents"
        are = "is" if len(numbers) == 1 else "are"
        return [
            f"{one} {listed} {are} critical and nobody is told: no callout is for {'it' if are == 'is' else 'them'}."
        ]

    def _look_at(self, held: _Held, now: float) -> None:
        row = held.row
        level = row.level if row.of else self._incidents.told_level(row.id)
        matching = self._matching(held, level)
        if self._has_work(held, level, matching, now):
            self._incidents.change(lambda s: self._work(s, row.id, level, matching, now))
            self._incidents.changed.tell(row.id)

    def _matching(self, held: _Held, level: int) -> list[str]:
        """The callouts that are for an incident, whatever the hour."""
        row = held.row
        if held.drill is not None:
            return [held.drill.callout]
        if level == 0 or row.of:
            return []
        ready = self._callouts.ready()
        form = (
            self._callouts.version,
            level,
            row.alert_count,
            row.open_count,
            row.hurts,
            row.taken_by,
            self._directory.version,
        )
        before = self._matches.get(row.id)
        if before is not None and before[0] == form:
            return before[1]
        facts = incident_facts(row, level, self._incidents.members(row.id), self._directory)
        found = [one.name for one in ready if one.when is None or filters.matches(one.when, facts.get)]
        self._matches[row.id] = (form, found)
        return found

    def _has_work(self, held: _Held, level: int, matching: list[str], now: float) -> bool:
        """Whether anything is to be written: most looks find nothing."""
        row, runs = held.row, held.runs
        if row.recovered_at is None and (row.snoozed_until is not None or row.snoozed_level is not None):
            return (row.snoozed_until is not None and now >= row.snoozed_until) or (
                row.snoozed_level is not None and level > row.snoozed_level
            )
        if level == 0 and row.recovered_at is None:
            return bool(runs) or bool(held.words) or bool(held.endings)
        if row.recovered_at is not None:
            return held.listeners > held.endings or bool(runs) or bool(held.words)
        new = any(name not in runs and self._in_hours(name, row, now) for name in matching)
        due = row.taken_by is None and any(
            (run.due is not None and run.due <= now and self._in_hours(run.callout, row, now))
            or any(until <= now for _, until in run.later)
            for run in runs.values()
        )
        is_over = held.drill is not None and _drill_is_over(row, held.drill, list(runs.values()), now)
        return new or due or bool(row.told.get("over")) or self._changes(row, level) != "" or is_over

    def _in_hours(self, name: str, row: Incident, now: float) -> bool:
        ready = self._callouts.find(name)
        if ready is None:
            return False
        return row.of == "drill" or ready.body.hours is None or holds(ready.body.hours, now)

    # --- one change

    def _work(self, session: Session, number: int, level: int, matching: list[str], now: float) -> None:
        row = session.get_one(Incident, number)
        if row.state != "open":
            return
        if not self._wakes_up(session, row, level, now):
            return
        if level == 0 or row.recovered_at is not None:
            session.execute(delete(Word).where(Word.incident == row.id, Word.kind != "recovered"))
            session.execute(delete(CalloutRun).where(CalloutRun.incident == row.id))
            if row.recovered_at is not None:
                self._over(session, row, now)
            return
        self._wrong_again(session, row, now)
        self._tell_changes(session, row, level, now)
        runs = {run.callout: run for run in session.scalars(select(CalloutRun).where(CalloutRun.incident == number))}
        for name in matching:
            ready = self._callouts.find(name)
            if name not in runs and ready is not None and self._in_hours(name, row, now):
                course = begin(ready.body, now, is_warning=level == WARNING)
                runs[name] = CalloutRun(incident=number, callout=name, rounds=0, later=[])
                session.add(runs[name])
                _keep(runs[name], course)
        if row.taken_by is None:
            for run in runs.values():
                self._go_on(session, row, run, level, now)
        drill = session.scalar(select(Drill).where(Drill.incident == row.id)) if row.of == "drill" else None
        if drill is not None and _drill_is_over(row, drill, list(runs.values()), now):
            self._end_drill(session, row, drill, now)

    def _wakes_up(self, session: Session, row: Incident, level: int, now: float) -> bool:
        """Whether an incident is not to be quiet any more."""
        if row.recovered_at is not None:
            # What is over is told, however long it was to be quiet.
            row.snoozed_until = row.snoozed_level = None
        elif row.snoozed_until is not None and now >= row.snoozed_until:
            row.snoozed_until = None
        elif row.snoozed_level is not None and level > row.snoozed_level:
            row.snoozed_level = None
            for run in session.scalars(select(CalloutRun).where(CalloutRun.incident == row.id)):
                run.step, run.due, run.begun = 0, now, now
            row.taken_by = None
        return row.snoozed_until is None and row.snoozed_level is None

    def _over(self, session: Session, row: Incident, now: float) -> None:
        """Nothing is wrong any more: whoever was told is told that."""
        add_words_to_listeners(session, row.id, "recovered", ALL_OVER, now, self._gather)
        row.told = {**row.told, "over": True}

    def _wrong_again(self, session: Session, row: Incident, now: float) -> None:
        """It was over, and is not: if that was told already, all begins anew."""
        if not row.told.get("over"):
            return
        session.execute(delete(Word).where(Word.incident == row.id, Word.kind == "recovered"))
        still = select(func.count()).select_from(Heard).where(Heard.incident == row.id, Heard.over.is_(False))
        if session.scalar(still):
            row.told = {key: value for key, value in row.told.items() if key != "over"}
            return
        heard = session.scalar(select(func.count()).select_from(Heard).where(Heard.incident == row.id))
        if heard:
            add_line(session, row.id, now, "alert", "it is wrong again", None)
            row.taken_by = row.taken_at = None
        row.told = {}

    def _changes(self, row: Incident, level: int) -> str:
        """What is to be told again, because it means something else for people now; empty for nothing."""
        told = row.told
        if "level" not in told:
            return ""
        said = []
        if level > told["level"]:
            said.append("it is critical now")
        before: Mapping[str, State] = told.get("hurts", {})
        for hurt in row.hurts:
            name, state = hurt["application"], hurt.get("state", "ok")
            if name not in before:
                said.append(f"it touches {name} now")
            elif STATES_WORST_FIRST.index(state) < STATES_WORST_FIRST.index(before[name]):
                said.append(f"{name} is {state} where its users meet it")
        return ", ".join(said)

    def _tell_changes(self, session: Session, row: Incident, level: int, now: float) -> None:
        said = self._changes(row, level)
        if not said:
            return
        add_words_to_listeners(session, row.id, "changed", said, now, self._gather)
        row.told = told_of(row, level)
        if level == CRITICAL:
            for run in session.scalars(select(CalloutRun).where(CalloutRun.incident == row.id)):
                ready = self._callouts.find(run.callout)
                if ready is not None:
                    _keep(run, hasten(_course(run), ready.body, now))

    def _go_on(self, session: Session, row: Incident, run: CalloutRun, level: int, now: float) -> None:
        """Tells the next step of a callout, if it is due."""
        ready = self._callouts.find(run.callout)
        if ready is None:
            session.delete(run)
            return
        for person, until in [one for one in run.later if one[1] <= now]:
            run.later = [one for one in run.later if one != [person, until]]
            self._tell(session, row, ready, f"person:{person}", "their quiet hours are over", now)
        if run.due is None or run.due > now or not self._in_hours(run.callout, row, now):
            return
        course = _course(run)
        steps = ready.body.in_steps()
        if course.step >= len(steps):
            # The callout has fewer steps than it had.
            run.due = None
            return
        reached, problems = False, []
        for target in steps[course.step].tell:
            for way in self._tell(session, row, ready, target, self._why(ready, course), now):
                if isinstance(way, Nobody):
                    problems.append(way.why)
                elif way.quiet_until is not None:
                    problems.append(f"{way.person} is in quiet hours")
                    if [way.person, way.quiet_until] not in run.later:
                        run.later = [*run.later, [way.person, way.quiet_until]]
                else:
                    reached = True
        after = go_on(course, ready.body, now, is_warning=level == WARNING)
        if problems:
            said = f"step {course.step + 1} of {ready.name}: " + ", ".join(dict.fromkeys(problems))
            if not reached and after.due is not None and after.step > course.step:
                # Nobody could be told: whoever is next is told at once.
                after = Course(after.begun, after.step, now, after.rounds)
                said += "; the next step is told at once"
            add_line(session, row.id, now, "told", said, None)
        _keep(run, after)

    @staticmethod
    def _why(ready: Ready, course: Course) -> str:
        if course.rounds:
            return f"nobody has it: told again by the callout {ready.name}"
        if course.step:
            return f"nobody has it: step {course.step + 1} of the callout {ready.name}"
        return f"the callout {ready.name} is for it"

    def _tell(
        self, session: Session, row: Incident, ready: Ready, target: str, why: str, now: float
    ) -> list[Way | Nobody]:
        """Has whoever a target leads to told, but for those in quiet hours."""
        ways = list(ways_to(session, target, now))
        for way in ways:
            if isinstance(way, Way) and way.quiet_until is None and _takes_incidents(session, way.channel):
                known = session.scalar(
                    select(Heard.id).where(
                        Heard.incident == row.id,
                        Heard.channel == way.channel,
                        Heard.person.is_not_distinct_from(way.person),
                        Heard.over.is_(False),
                    )
                )
                kind = "opened" if known is None else "changed"
                said = f"{why}: {way.because}" if way.person else why
                gather = self._gather(ready.name)
                add_word(session, row.id, (way.channel, way.person), ready.name, kind, said, gather, now)
        return ways

    def _gather(self, callout: str) -> float:
        ready = self._callouts.find(callout)
        return seconds(ready.body.gather) if ready is not None else 0.0

    # --- drills

    def _end_drill(self, session: Session, row: Incident, drill: Drill, now: float) -> None:
        drill.ended_at = now
        who = f"answered by {drill.answered_by}" if drill.answered_by else "nobody answered"
        why = f"the practice is over: {who}"
        add_line(session, row.id, now, "closed", why, None)
        add_words_to_listeners(session, row.id, "recovered", why, now)
        row.recovered_at = now
        self._incidents.end(session, row, now, None, None)


def _held(session: Session) -> list[_Held]:
    """All open incidents, with how far their callouts are."""
    rows = list(session.scalars(select(Incident).where(Incident.state == "open").order_by(Incident.id)))
    if not rows:
        return []
    mine = {row.id: _Held(row) for row in rows}
    for run in session.scalars(select(CalloutRun).where(CalloutRun.incident.in_(_OPEN))):
        mine[run.incident].runs[run.callout] = run
    listeners = select(Heard.incident, func.count()).where(Heard.incident.in_(_OPEN), Heard.over.is_(False))
    for number, count in session.execute(listeners.group_by(Heard.incident)):
        mine[number].listeners = count
    words = select(Word.incident, Word.kind == "recovered", func.count()).where(Word.incident.in_(_OPEN))
    for number, is_ending, count in session.execute(words.group_by(Word.incident, Word.kind == "recovered")):
        if is_ending:
            mine[number].endings = count
        else:
            mine[number].words = count
    for drill in session.scalars(select(Drill).where(Drill.incident.in_(_OPEN))):
        mine[drill.incident].drill = drill
    return list(mine.values())


def _drill_is_over(row: Incident, drill: Drill, runs: list[CalloutRun], now: float) -> bool:
    """Whether it has its answer, or had time enough."""
    if drill.answered_at is not None:
        return True
    last = max((run.begun for run in runs), default=row.opened_at)
    left = [run for run in runs if run.due is not None and run.rounds == 0]
    return bool(runs) and not left and now - last > DRILL_ENDS_AFTER


def told_of(row: Incident, level: int) -> dict[str, Any]:
    """What is told of an incident now, to be compared with what it will be."""
    return {"level": level, "hurts": {hurt["application"]: hurt.get("state", "ok") for hurt in row.hurts}}


def _takes_incidents(session: Session, channel: str) -> bool:
    row = session.get(Channel, channel)
    return row is not None and row.settings.get("of", "incidents") == "incidents"


def _course(run: CalloutRun) -> Course:
    return Course(run.begun, run.step, run.due, run.rounds)


def _keep(run: CalloutRun, course: Course) -> None:
    run.begun, run.step, run.due, run.rounds = course.begun, course.step, course.due, course.rounds
