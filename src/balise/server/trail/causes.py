"""What people said was the cause of incidents, and what follows from it for the next."""

from __future__ import annotations

import time
from collections import Counter
from typing import Any, get_args

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.spans import rfc3339
from balise.api.trail import CauseBody, KindRecord, SaidCause, ThingKind, Trail, TrailRecord
from balise.core.trail.leaning import Count, counted
from balise.core.trail.words import SURE
from balise.server.errors import Refused, bad_field, unknown
from balise.server.incidents.alike import alike
from balise.server.incidents.book import add_line
from balise.server.people.access import audit
from balise.store.state.store import StateStore
from balise.store.state.tables import Incident, IncidentCause

MOST_COUNTED, NEWEST, MOST_BEFORE = 1000, 20, 5
"""Answers that count, the newest; how many are named; and how many of incidents alike are shown."""
THIRD = 3


class CauseBook:
    """Keeps one answer for each incident; the last one counts, and any can be taken back."""

    def __init__(self, state: StateStore) -> None:
        self._state = state
        self._leaning: dict[str, float] | None = None

    def say(self, number: int, body: CauseBody, trail: Trail, who: str) -> SaidCause:
        """Keeps what somebody said of a trail. Raises Refused 422 for a rank that it does not have."""
        chosen = next((one for one in trail.suspects if one.rank == body.suspect), None)
        if body.suspect is not None and chosen is None:
            count = len(trail.suspects)
            last = f"the trail names {count} suspects" if count else "the trail names no suspect: say other"
            raise bad_field("suspect", f"there is no suspect {body.suspect}: {last}")
        expected: dict[str, float] = {}
        # Several may be right, but somebody names one.
        whole = max(1.0, sum(one.sure for one in trail.suspects))
        for one in trail.suspects:
            expected[one.thing.kind] = expected.get(one.thing.kind, 0.0) + one.sure / whole
        text = f"{chosen.title}: {chosen.what}" if chosen is not None else str(body.other)

        def write(session: Session) -> SaidCause:
            if session.get(Incident, number) is None:
                raise unknown("incident", number)
            now = time.time()
            row = IncidentCause(
                incident=number,
                rank=body.suspect,
                sure=chosen.sure if chosen is not None else None,
                kind=chosen.thing.kind if chosen is not None else None,
                text=text,
                expected=expected,
                first_sure=trail.sure,
                who=who,
                at=now,
            )
            session.merge(row)
            add_line(session, number, now, "note", f"the cause was {text}", who)
            audit(session, who, "incident.cause", str(number), rank=body.suspect)
            return _answer(row)

        said = self._state.write(write)
        self._leaning = None
        return said

    def take_back(self, number: int, who: str) -> None:
        """What was said counts no more. Raises Refused 404 when nothing was."""

        def write(session: Session) -> None:
            row = session.get(IncidentCause, number)
            if row is None:
                raise Refused(404, f"Nobody has named the cause of incident {number}.")
            session.delete(row)
            add_line(session, number, time.time(), "note", "took back what was said of the cause", who)
            audit(session, who, "incident.cause", str(number), rank=None)

        self._state.write(write)
        self._leaning = None

    def of(self, number: int) -> SaidCause | None:
        row = self._state.read(lambda s: s.get(IncidentCause, number))
        return _answer(row) if row is not None else None

    def before(self, number: int) -> list[SaidCause]:
        """What was said of incidents of the same rules on the same things, the newest first."""
        return self._state.read(lambda s: [_answer(row) for row in _alike(s, number)])

    def leaning(self) -> dict[str, float]:
        """By kind of thing, how far what people said moves the odds."""
        if self._leaning is None:
            self._leaning = {kind: count.leaning for kind, count in self._counts(self._newest()).items()}
        return self._leaning

    def record(self, days: int | None) -> TrailRecord:
        """How often which rank was right, of what was said in so many days, or at all."""
        every = self._newest()
        since = time.time() - days * 86_400 if days is not None else 0.0
        mine = [row for row in every if row.at >= since]
        ranks = Counter(row.rank for row in mine)
        return TrailRecord(
            days=days,
            said=len(mine),
            first=ranks[1],
            second=ranks[2],
            third=ranks[THIRD],
            later=sum(count for rank, count in ranks.items() if rank is not None and rank > THIRD),
            other=ranks[None],
            none_stood_out=sum(row.first_sure < SURE for row in mine),
            kinds=[
                KindRecord(kind=kind, expected=round(c.expected, 2), right=c.right, leaning=round(c.leaning, 3))
                for kind in get_args(ThingKind)
                if (c := self._counts(every).get(kind)) is not None
            ],
            newest=[_answer(row) for row in mine[:NEWEST]],
        )

    def _newest(self) -> list[IncidentCause]:
        query = select(IncidentCause).order_by(IncidentCause.at.desc()).limit(MOST_COUNTED)
        return self._state.read(lambda s: list(s.scalars(query)))

    @staticmethod
    def _counts(rows: list[IncidentCause]) -> dict[str, Count]:
        return counted((row.expected, _kind(row.kind)) for row in rows)


def _answer(row: IncidentCause) -> SaidCause:
    return SaidCause(
        incident=row.incident, rank=row.rank, sure=row.sure, kind=_kind(row.kind), text=row.text, who=row.who,
        at=rfc3339(row.at),
    )  # fmt: skip


def _kind(text: str | None) -> Any:
    return text if text in get_args(ThingKind) else None


def _alike(session: Session, number: int) -> list[IncidentCause]:
    """What was said of others with an alert of the same rule on the same thing."""
    others = IncidentCause.incident.in_(alike(number))
    query = select(IncidentCause).where(others).order_by(IncidentCause.at.desc()).limit(MOST_BEFORE)
    return list(session.scalars(query))
