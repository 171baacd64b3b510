"""Rotas as they are kept, and who is on duty."""

from __future__ import annotations

import time

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from balise.api.rotas import DutyStretch, OnDuty, RotaAnswer, RotaBody
from balise.api.spans import rfc3339, seconds
from balise.core.callouts.rota import Rota
from balise.server.callouts.book import refuse_if_told
from balise.server.callouts.calendar import Entry, calendar
from balise.server.callouts.found import found
from balise.server.errors import Refused, bad_field
from balise.server.people.access import audit
from balise.store.state import tables
from balise.store.state.store import StateStore

MOST_ROTAS = 200
BEHIND, AHEAD = 365 * 86_400.0, 183 * 86_400.0
MOST_TURNS = 700
"""Seconds of a rota that its calendar has, and turns on each side of now."""


class RotaBook:
    """All rotas."""

    def __init__(self, state: StateStore) -> None:
        self._state = state

    def all(self) -> list[RotaAnswer]:
        rows = self._state.read(lambda s: list(s.scalars(select(tables.Rota).order_by(tables.Rota.name))))
        return [_answer(row) for row in rows]

    def get(self, name: str) -> RotaAnswer:
        return self._state.read(lambda s: _answer(found(s, tables.Rota, name)))

    def on_duty(self, name: str, at: float) -> OnDuty:
        duty = self._rota(name).on_duty(at)
        if duty is None:
            return OnDuty(person=None, until=None)
        return OnDuty(person=duty.person, until=rfc3339(duty.end), instead_of=duty.instead_of)

    def stretches(self, name: str, start: float, end: float) -> list[DutyStretch]:
        """Who has which part of a time, one after the other."""
        found_ = self._rota(name).stretches(start, end)
        return [DutyStretch(person=d.person, start=d.start, end=d.end, instead_of=d.instead_of) for d in found_]

    def calendar(self, name: str) -> bytes:
        """The last year and the next half year as iCalendar (RFC 5545)."""
        now = time.time()
        body = RotaBody.model_validate(self._state.read(lambda s: found(s, tables.Rota, name)).body)
        most = MOST_TURNS * seconds(body.turn)
        entries = []
        for duty in Rota(body).stretches(now - min(BEHIND, most), now + min(AHEAD, most)):
            instead = f" (instead of {duty.instead_of})" if duty.instead_of else ""
            number = f"{duty.start:.0f}-{duty.person}"
            entries.append(Entry(number, f"{duty.person} on duty: {name}{instead}", duty.start, duty.end))
        return calendar(f"Rota {name}", entries, now)

    def _rota(self, name: str) -> Rota:
        row = self._state.read(lambda s: found(s, tables.Rota, name))
        return Rota(RotaBody.model_validate(row.body))

    def put(self, name: str, body: RotaBody, who: str) -> RotaAnswer:
        """Raises Refused 422 for somebody who is not there."""

        def write(session: Session) -> tables.Rota:
            for field, wanted in (("people", body.people), ("overrides", [o.person for o in body.overrides])):
                missing = [one for one in wanted if session.get(tables.Person, one) is None]
                if missing:
                    raise bad_field(field, f"there is no person {', '.join(missing)}: make them first")
            row = session.get(tables.Rota, name)
            if row is None:
                if (session.scalar(select(func.count()).select_from(tables.Rota)) or 0) >= MOST_ROTAS:
                    raise Refused(409, f"There are {MOST_ROTAS} rotas already: delete some first.")
                row = tables.Rota(name=name)
                session.add(row)
            row.body = body.model_dump(mode="json", by_alias=True)
            audit(session, who, "rota.put", name, people=body.people, overrides=len(body.overrides))
            return row

        return _answer(self._state.write(write))

    def delete(self, name: str, who: str) -> None:
        """Raises Refused 409 while a callout tells it."""

        def write(session: Session) -> None:
            row = found(session, tables.Rota, name)
            refuse_if_told(session, "rota", name)
            session.delete(row)
            audit(session, who, "rota.delete", name)

        self._state.write(write)


def _answer(row: tables.Rota) -> RotaAnswer:
    body = RotaBody.model_validate(row.body)
    duty = Rota(body).on_duty(time.time())
    person, until = (duty.person, rfc3339(duty.end)) if duty else (None, None)
    return RotaAnswer(**body.model_dump(), name=row.name, on_duty=person, until=until)
