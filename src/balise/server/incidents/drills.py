"""Drills: practice incidents that go the real way."""

from __future__ import annotations

import time

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from balise.api.drills import Drill, DrillTold
from balise.api.spans import rfc3339
from balise.server.callouts.book import CalloutBook
from balise.server.errors import Refused, unknown
from balise.server.incidents.book import IncidentBook, add_line
from balise.server.people.access import audit
from balise.store.state import tables
from balise.store.state.store import StateStore

MOST_AT_ONCE = 5
TITLE = "Practice: nothing is wrong, answer it as if something were"


class Drills:
    """All drills."""

    def __init__(self, *, state: StateStore, callouts: CalloutBook, incidents: IncidentBook) -> None:
        self._state = state
        self._callouts = callouts
        self._incidents = incidents

    def start(self, callout: str, who: str) -> int:
        """Begins one; answers its number. Raises Refused 404 for a callout that is not there, 409 for one too many."""
        self._callouts.get(callout)
        now = time.time()

        def write(session: Session) -> tuple[int, int]:
            going_on = select(func.count()).select_from(tables.Drill).where(tables.Drill.ended_at.is_(None))
            if (session.scalar(going_on) or 0) >= MOST_AT_ONCE:
                raise Refused(409, f"There are {MOST_AT_ONCE} drills going on: take their incidents, or wait.")
            incident = tables.Incident(
                of="drill", title=TITLE, level=2, opened_at=now, told={}, hurts=[], hosts=[], apart=[]
            )
            session.add(incident)
            session.flush()
            row = tables.Drill(callout=callout, incident=incident.id, started_at=now, started_by=who)
            session.add(row)
            session.flush()
            add_line(session, incident.id, now, "note", f"a drill of the callout {callout}", who)
            audit(session, who, "callout.drill", callout, incident=incident.id)
            return row.id, incident.id

        number, incident = self._incidents.change(write)
        self._incidents.changed.tell(incident)
        return int(number)

    def get(self, number: int) -> Drill:
        """How it goes. Raises Refused 404."""
        return self._state.read(lambda s: _answer(s, number))


def _answer(session: Session, number: int) -> Drill:
    row = session.get(tables.Drill, number)
    if row is None:
        raise unknown("drill", number)
    table = tables.Delivery
    query = select(table).where(table.incident == row.incident, table.kind != "recovered").order_by(table.id)
    told = [
        DrillTold(
            channel=one.channel,
            person=one.person,
            seconds=round(one.sent_at - row.started_at, 3) if one.sent_at is not None else None,
            problem=one.problem,
        )
        for one in session.scalars(query)
    ]
    return Drill(
        id=row.id,
        callout=row.callout,
        incident=row.incident,
        started_at=rfc3339(row.started_at),
        started_by=row.started_by,
        told=told,
        answered_by=row.answered_by,
        answered_after=round(row.answered_at - row.started_at, 3) if row.answered_at is not None else None,
        ended_at=rfc3339(row.ended_at) if row.ended_at is not None else None,
    )
