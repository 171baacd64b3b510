"""What people do with incidents, each kept with who and when."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence

from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from balise.api.incidents import Snooze, Together, TogetherDone
from balise.api.spans import instant, rfc3339
from balise.server.errors import Refused, bad_field, unknown
from balise.server.incidents.book import IncidentBook, add_line, reopen
from balise.server.incidents.words import add_word, add_words_to_listeners
from balise.server.people.access import audit
from balise.store.state.store import StateStore
from balise.store.state.tables import (
    Alert,
    CalloutRun,
    Drill,
    Heard,
    Incident,
    IncidentAlert,
    Person,
    Word,
)

LONGEST_SNOOZE = 31 * 86_400.0


class IncidentActs:
    """Taking, handing over, noting, keeping quiet, closing, joining, parting. All raise Refused 404 for an incident
    that is not there, and 409 with words when it cannot be."""

    def __init__(self, *, state: StateStore, incidents: IncidentBook, clock: Callable[[], float] = time.time) -> None:
        self._state = state
        self._incidents = incidents
        self.clock = clock

    def acknowledge(self, number: int, who: str, note: str = "") -> None:
        """Somebody has seen it: its open alerts are acknowledged. Callouts go on until somebody takes it."""

        def write(session: Session) -> None:
            now = self.clock()
            row = _open_row(session, number)
            mine = select(IncidentAlert.alert).where(IncidentAlert.incident == number)
            unseen = (Alert.id.in_(mine), Alert.recovered_at.is_(None), Alert.acknowledged_by.is_(None))
            values = {"acknowledged_by": who, "acknowledged_at": now, "acknowledged_note": note[:500]}
            session.execute(update(Alert).where(*unseen).values(**values))
            add_line(session, number, now, "note", _with("has seen it", note), who)
            self._answered(session, row, who, now)
            audit(session, who, "incident.acknowledge", str(number))

        self._changed(number, write)

    def take(self, number: int, who: str, person: str | None, note: str) -> None:
        """A person, or whoever asks, has it: callouts tell nobody else."""

        def write(session: Session) -> None:
            now = self.clock()
            row = _open_row(session, number)
            mine = person or who
            if row.taken_by == mine:
                raise Refused(409, f"{mine} has incident {number} already.")
            row.taken_by, row.taken_at = mine, now
            add_line(session, number, now, "taken", _with(f"{mine} has it", note), who)
            self._answered(session, row, mine, now)
            audit(session, who, "incident.take", str(number), person=mine)

        self._changed(number, write)

    def hand_over(self, number: int, who: str, to: str, note: str) -> None:
        """Another person has it, and is told. Raises Refused 422 for somebody who cannot be told."""

        def write(session: Session) -> None:
            now = self.clock()
            row = _open_row(session, number)
            person = session.get(Person, to)
            if person is None:
                raise bad_field("to", f"there is no person {to}: make them first, with a channel to tell them by")
            before = row.taken_by
            row.taken_by, row.taken_at = to, now
            handed = f"{before} handed it over to {to}" if before else f"it was handed over to {to}"
            add_line(session, number, now, "handed-over", _with(handed, note), who)
            why = _with(f"{who} has handed it over to you", note)
            heard = select(Heard.channel).where(Heard.incident == number, Heard.person == to, Heard.over.is_(False))
            told = set(session.scalars(heard))
            for channel in person.body["channels"]:
                kind = "changed" if channel in told else "opened"
                add_word(session, number, (channel, to), "", kind, why, 0.0, now)
            self._answered(session, row, who, now)
            audit(session, who, "incident.hand-over", str(number), to=to)

        self._changed(number, write)

    def note(self, number: int, who: str, text: str) -> None:
        def write(session: Session) -> None:
            _row(session, number)
            add_line(session, number, self.clock(), "note", text, who)
            audit(session, who, "incident.note", str(number))

        self._changed(number, write)

    def snooze(self, number: int, who: str, body: Snooze) -> None:
        """Nobody is told until a time, or until it is worse; then those who are called are told anew."""
        now = self.clock()
        until = instant(body.until, now) if body.until is not None else None
        if until is not None and not now < until <= now + LONGEST_SNOOZE:
            raise bad_field("until", "a time to come, at most 31 days from now")

        def write(session: Session) -> None:
            row = _open_row(session, number)
            row.snoozed_until, row.snoozed_level = until, None if until is not None else row.level
            runs = update(CalloutRun).where(CalloutRun.incident == number)
            session.execute(runs.values(step=0, due=until, later=[], rounds=CalloutRun.rounds + 1))
            session.execute(delete(Word).where(Word.incident == number))
            said = f"quiet until {rfc3339(until)[:16].replace('T', ' ')} UTC" if until else "quiet until it is worse"
            add_line(session, number, now, "snoozed", said, who)
            self._answered(session, row, who, now)
            audit(session, who, "incident.snooze", str(number), until=until)

        self._changed(number, write)

    def close(self, number: int, who: str, reason: str) -> None:
        """Closes it by hand; those who were told are told that."""

        def write(session: Session) -> None:
            now = self.clock()
            row = _open_row(session, number)
            add_line(session, number, now, "closed", reason, who)
            session.execute(delete(Word).where(Word.incident == number))
            add_words_to_listeners(session, number, "recovered", f"closed by {who}: {reason}", now)
            self._incidents.end(session, row, now, who, reason)
            self._answered(session, row, who, now)
            audit(session, who, "incident.close", str(number), reason=reason)

        self._changed(number, write)

    def reopen(self, number: int, who: str) -> None:
        """It is open again, and those of its alerts that have not recovered are its own again."""

        def write(session: Session) -> None:
            now = self.clock()
            row = _row(session, number)
            if row.state == "open":
                raise Refused(409, f"Incident {number} is open.")
            if row.joined_into is not None:
                raise Refused(409, f"Incident {number} is a part of incident {row.joined_into} now: part it from that.")
            reopen(session, row, "note", "opened it again", who, now)
            self._incidents.take_back(session, row)
            self._incidents.refresh(session, number, now)
            audit(session, who, "incident.reopen", str(number))

        self._changed(number, write)

    def join(self, number: int, who: str, other: int) -> None:
        """Another incident is a part of this one from now on."""

        def write(session: Session) -> None:
            now = self.clock()
            mine, gone = _open_row(session, number), _open_row(session, other)
            if number == other or mine.of or gone.of:
                raise Refused(409, "Only two incidents of alerts can be joined.")
            self._incidents.grouping.join(number, other)
            mine.apart = [one for one in mine.apart if one != other]
            self._incidents.merge(session, number, other, f"joined by {who}", who, now)
            self._incidents.hold_again(session, number)
            self._incidents.refresh(session, number, now)
            audit(session, who, "incident.join", str(number), with_=other)

        self._changed(number, write)

    def part(self, number: int, who: str, alerts: Sequence[int]) -> int:
        """Some of its alerts are an incident of their own from now on; answers its number."""
        made: list[int] = []

        def write(session: Session) -> None:
            now = self.clock()
            row = _open_row(session, number)
            members = self._incidents.grouping.members(number)
            missing = sorted(set(alerts) - members)
            if missing:
                raise Refused(409, f"Alert {missing[0]} is none of those that are open in incident {number}.")
            if set(alerts) == members:
                raise Refused(409, "These are all of its alerts: there is nothing to part them from.")
            other = Incident(title="", level=row.level, opened_at=now, told={}, hurts=[], hosts=[], apart=[number])
            session.add(other)
            session.flush()
            self._incidents.grouping.part(number, other.id, alerts)
            row.apart = [*row.apart, other.id]
            chosen = IncidentAlert.alert.in_(list(alerts))
            session.execute(update(IncidentAlert).where(chosen).values(incident=other.id, why=f"parted by {who}"))
            loose = IncidentAlert.held_under.in_(list(alerts))
            apart = update(IncidentAlert).where(IncidentAlert.incident == number, loose)
            session.execute(apart.values(held_under=None, why_held=""))
            inside = select(IncidentAlert.alert).where(IncidentAlert.incident == other.id)
            outside = update(IncidentAlert).where(chosen, IncidentAlert.held_under.not_in(inside))
            session.execute(outside.values(held_under=None, why_held=""))
            self._incidents.hosts_parted(number, other.id)
            add_line(session, number, now, "parted", f"{len(set(alerts))} alerts are incident {other.id} now", who)
            add_line(session, other.id, now, "parted", f"parted from incident {number}", who)
            for one in (number, other.id):
                self._incidents.refresh(session, one, now)
            audit(session, who, "incident.part", str(number), alerts=len(set(alerts)), into=other.id)
            made.append(other.id)

        self._changed(number, write)
        self._incidents.changed.tell(made[0])
        return made[0]

    def together(self, body: Together, who: str) -> list[TogetherDone]:
        """The same for several; what cannot be done says why."""
        acts: dict[str, Callable[[int], None]] = {
            "acknowledge": lambda n: self.acknowledge(n, who, body.text),
            "take": lambda n: self.take(n, who, body.person, body.text),
            "hand-over": lambda n: self.hand_over(n, who, body.to or "", body.text),
            "note": lambda n: self.note(n, who, body.text),
            "snooze": lambda n: self.snooze(n, who, Snooze(until=body.until, until_worse=body.until is None)),
            "close": lambda n: self.close(n, who, body.text),
            "reopen": lambda n: self.reopen(n, who),
        }
        if body.act == "hand-over" and not body.to:
            raise bad_field("to", "say to whom")
        if body.act in ("note", "close") and not body.text:
            raise bad_field("text", "say what is to be written")
        done = []
        for number in dict.fromkeys(body.incidents):
            try:
                acts[body.act](number)
                done.append(TogetherDone(id=number))
            except Refused as error:
                done.append(TogetherDone(id=number, problem=error.detail))
        return done

    def _changed(self, number: int, write: Callable[[Session], None]) -> None:
        self._incidents.change(write)
        self._incidents.changed.tell(number)

    @staticmethod
    def _answered(session: Session, row: Incident, who: str, now: float) -> None:
        """A drill has its answer: it is over."""
        drill = session.scalar(select(Drill).where(Drill.incident == row.id, Drill.answered_by.is_(None)))
        if drill is not None:
            drill.answered_by, drill.answered_at = who, now


def _with(text: str, note: str) -> str:
    return f"{text}: {note}" if note else text


def _row(session: Session, number: int) -> Incident:
    row = session.get(Incident, number)
    if row is None:
        raise unknown("incident", number)
    return row


def _open_row(session: Session, number: int) -> Incident:
    row = _row(session, number)
    if row.state != "open":
        into = f": it is a part of incident {row.joined_into}" if row.joined_into else ""
        raise Refused(409, f"Incident {number} is closed{into}.")
    return row
