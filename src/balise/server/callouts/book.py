"""Callouts: who is told of what."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.notify import Callout, CalloutBody
from balise.server.asking import read_filter
from balise.server.callouts.channel_book import found
from balise.server.errors import bad_field
from balise.server.people.access import audit
from balise.store.state import tables
from balise.store.state.store import StateStore


class CalloutBook:
    """All callouts."""

    def __init__(self, state: StateStore) -> None:
        self._state = state

    def all(self) -> list[Callout]:
        rows = self._state.read(lambda s: list(s.scalars(select(tables.Callout).order_by(tables.Callout.name))))
        return [_answer(row) for row in rows]

    def get(self, name: str) -> Callout:
        return self._state.read(lambda s: _answer(found(s, tables.Callout, name)))

    def put(self, name: str, body: CalloutBody, who: str) -> Callout:
        """Raises Refused 422 for a filter that cannot be read, or a channel that is not there."""
        read_filter(body.when, "when")

        def write(session: Session) -> tables.Callout:
            there = set(session.scalars(select(tables.Channel.name)))
            missing = [c for c in body.tell if c not in there]
            if missing:
                raise bad_field("tell", f"there is no channel {', '.join(missing)}: make it first")
            row = session.get(tables.Callout, name)
            if row is None:
                row = tables.Callout(name=name, when=body.when, tell=body.tell)
                session.add(row)
            else:
                row.when, row.tell = body.when, list(body.tell)
            audit(session, who, "callout.put", name, when=body.when, tell=body.tell)
            return row

        return _answer(self._state.write(write))

    def delete(self, name: str, who: str) -> None:
        def write(session: Session) -> None:
            session.delete(found(session, tables.Callout, name))
            audit(session, who, "callout.delete", name)

        self._state.write(write)


def _answer(row: tables.Callout) -> Callout:
    return Callout(name=row.name, when=row.when, tell=row.tell)
