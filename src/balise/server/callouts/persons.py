"""People who can be told, as they are kept."""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from balise.api.persons import Person, PersonBody
from balise.api.rotas import RotaBody
from balise.server.callouts.book import refuse_if_told
from balise.server.callouts.found import found
from balise.server.errors import Refused, bad_field
from balise.server.people.access import audit
from balise.store.state import tables
from balise.store.state.store import StateStore

MOST_PERSONS = 2000


class PersonBook:
    """Everybody who can be told."""

    def __init__(self, state: StateStore) -> None:
        self._state = state

    def all(self) -> list[Person]:
        rows = self._state.read(lambda s: list(s.scalars(select(tables.Person).order_by(tables.Person.name))))
        return [_answer(row) for row in rows]

    def names(self) -> list[str]:
        return self._state.read(lambda s: list(s.scalars(select(tables.Person.name).order_by(tables.Person.name))))

    def get(self, name: str) -> Person:
        return self._state.read(lambda s: _answer(found(s, tables.Person, name)))

    def put(self, name: str, body: PersonBody, who: str) -> Person:
        """Raises Refused 422 for a channel that is not there."""

        def write(session: Session) -> tables.Person:
            missing = [channel for channel in body.channels if session.get(tables.Channel, channel) is None]
            if missing:
                raise bad_field("channels", f"there is no channel {', '.join(missing)}: make it first")
            row = session.get(tables.Person, name)
            if row is None:
                if (session.scalar(select(func.count()).select_from(tables.Person)) or 0) >= MOST_PERSONS:
                    raise Refused(409, f"There are {MOST_PERSONS} people already: delete some first.")
                row = tables.Person(name=name)
                session.add(row)
            row.body = body.model_dump(mode="json", by_alias=True)
            audit(session, who, "person.put", name, channels=body.channels)
            return row

        return _answer(self._state.write(write))

    def delete(self, name: str, who: str) -> None:
        """Raises Refused 409 while a callout tells them, or a rota has them."""

        def write(session: Session) -> None:
            row = found(session, tables.Person, name)
            refuse_if_told(session, "person", name)
            every = session.scalars(select(tables.Rota))
            rotas = [rota.name for rota in every if name in RotaBody.model_validate(rota.body).everybody()]
            if rotas:
                raise Refused(409, f"{name!r} is on the rota {', '.join(sorted(rotas))}: change it first.")
            session.delete(row)
            audit(session, who, "person.delete", name)

        self._state.write(write)


def _answer(row: tables.Person) -> Person:
    return Person(**PersonBody.model_validate(row.body).model_dump(), name=row.name)
