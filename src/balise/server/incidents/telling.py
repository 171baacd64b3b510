"""What is to be told, gathered into messages: at most one for each person and channel in their callout's time."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from functools import partial
from typing import Any

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from balise.api.channels import Preview
from balise.server.callouts.channels.channel import Outside
from balise.server.callouts.channels.messages import for_template
from balise.server.callouts.channels.templates import BadTemplate, filled
from balise.server.errors import bad_field, unknown
from balise.server.hosts.directory import Directory
from balise.server.incidents.answers import advice_of, alerts_of, incident_answer, severity_of
from balise.server.incidents.book import IncidentBook, add_line
from balise.server.incidents.calling import told_of
from balise.store.state.store import StateStore
from balise.store.state.tables import Delivery, Heard, Incident, Word

MOST_TOLD = 10
"""Incidents that are named in one message."""
AT_ONCE = 2000
"""Words that are looked at for one change."""
FORGET_AFTER = 3600.0
_SAID = {"opened": "told that it is wrong", "changed": "told again", "recovered": "told that it is over"}
To = tuple[str, str | None]


class Messages:
    """Makes deliveries of the words that are due."""

    def __init__(
        self,
        *,
        state: StateStore,
        directory: Directory,
        incidents: IncidentBook,
        paused: Callable[[], Mapping[int, str]],
        wake: Callable[[], object],
        public_url: str,
    ) -> None:
        """`wake` is called when there are deliveries to be sent; `public_url` is where people reach the console."""
        self._public_url = public_url
        self._state = state
        self._directory = directory
        self._incidents = incidents
        self._paused = paused
        self._wake = wake
        self._told_at: dict[To, float] = {}

    def send_due(self, now: float | None = None) -> int:
        """Makes one message for each person and channel of what is due; answers how many."""
        at = time.time() if now is None else now
        self._told_at = {to: told for to, told in self._told_at.items() if at - told < FORGET_AFTER}
        due = select(Word.channel, Word.person, func.min(Word.gather)).where(Word.due <= at)
        due = due.group_by(Word.channel, Word.person).order_by(func.min(Word.id))
        whom = self._state.read(lambda s: s.execute(due.limit(AT_ONCE)).all())
        ready = [(c, p) for c, p, gather in whom if at - self._told_at.get((c, p), 0.0) >= gather]
        for to in ready:
            self._incidents.change(partial(self._tell, to=to, now=at))
            self._told_at[to] = at
        if ready:
            self._wake()
        return len(ready)

    def preview(self, asked: Preview) -> str:
        """What a template makes of an incident, the newest unless said. Raises Refused 404, 422 for the template."""

        def read(session: Session) -> tuple[Incident, dict[str, Any]]:
            newest = select(Incident).order_by(Incident.id.desc()).limit(1)
            row = session.get(Incident, asked.incident) if asked.incident is not None else session.scalar(newest)
            if row is None:
                raise unknown("incident", asked.incident or "yet: nothing has gone wrong")
            word = Word(incident=row.id, kind="opened", why="this is a preview")
            return row, {**self._content(session, word, row), "also": [], "also_count": 0}

        row, content = self._state.read(read)
        delivery = Delivery(id=0, incident=row.id, kind="opened", content=content, created_at=time.time())
        outside = Outside(self._public_url, lambda _delivery: f"{self._public_url}/incidents/{row.id}")
        try:
            return filled(asked.template, for_template(delivery, outside))
        except BadTemplate as error:
            raise bad_field("template", str(error)) from None

    def _tell(self, session: Session, *, to: To, now: float) -> None:
        channel, person = to
        mine = select(Word).where(Word.channel == channel, Word.person.is_not_distinct_from(person))
        words = list(session.scalars(mine.order_by(Word.id).limit(AT_ONCE)))
        # Whatever else waits goes with it: openings and changes in one message, what is over in the next.
        is_wrong = any(word.kind != "recovered" for word in words if word.due <= now)
        self._write(session, to, [word for word in words if (word.kind != "recovered") == is_wrong], now)

    def _write(self, session: Session, to: To, words: Sequence[Word], now: float) -> None:
        channel, person = to
        found = [(word, row) for word in words if (row := session.get(Incident, word.incident)) is not None]
        found.sort(key=lambda one: (one[0].kind != "opened", -one[1].level, one[1].id))
        session.execute(delete(Word).where(Word.id.in_([word.id for word in words])))
        if not found:
            return
        word, row = found[0]
        content = self._content(session, word, row)
        content["thread"] = _thread(session, row.id, to)
        content["also"] = [self._also(other, one) for other, one in found[1:MOST_TOLD]]
        content["also_count"] = len(found) - 1
        delivery = Delivery(
            incident=row.id,
            channel=channel,
            person=person,
            callout=word.callout or None,
            kind=word.kind,
            content=content,
            state="waiting",
            created_at=now,
            next_at=now,
        )
        session.add(delivery)
        for other, one in found:
            self._note(session, other, one, to, now)
            if one is not row:
                whom = f"{person} by {channel}" if person else channel
                said = f"{whom} was {_SAID[other.kind]}, together with incident {row.id}"
                add_line(session, one.id, now, "told", said, None)

    def _content(self, session: Session, word: Word, row: Incident) -> dict[str, Any]:
        alerts = alerts_of(session, row.id)
        return {
            **incident_answer(session, row, self._directory, self._paused(), alerts).model_dump(mode="json"),
            "advice": advice_of(alerts),
            "why": word.why,
            "drill": row.of == "drill",
        }

    @staticmethod
    def _also(word: Word, row: Incident) -> dict[str, Any]:
        shown = {"id": row.id, "title": row.title, "severity": severity_of(row), "what": word.kind}
        return {**shown, "alert_count": row.alert_count, "hurts": row.hurts}

    def _note(self, session: Session, word: Word, row: Incident, to: To, now: float) -> None:
        """Keeps who was told of an incident, and what."""
        channel, person = to
        mine = (Heard.incident == row.id, Heard.channel == channel, Heard.person.is_not_distinct_from(person))
        known = list(session.scalars(select(Heard).where(*mine)))
        if not known:
            known = [Heard(incident=row.id, channel=channel, person=person, callout=word.callout)]
            session.add(known[0])
        for heard in known:
            heard.at, heard.over = now, word.kind == "recovered"
        if word.kind != "recovered" and "level" not in row.told:
            row.told = told_of(row, row.level if row.of else self._incidents.told_level(row.id))


def _thread(session: Session, incident: int, to: To) -> list[int]:
    """The first and the last delivery of an incident by the same way."""
    channel, person = to
    mine = (
        Delivery.incident == incident,
        Delivery.channel == channel,
        Delivery.person.is_not_distinct_from(person),
    )
    first, last = session.execute(select(func.min(Delivery.id), func.max(Delivery.id)).where(*mine)).one()
    return list(dict.fromkeys(number for number in (first, last) if number is not None))
