"""Saved views of the fleet."""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from balise.api.hosts import View, ViewBody
from balise.server.asking import read_filter
from balise.server.errors import Refused, unknown
from balise.store.state.store import StateStore
from balise.store.state.tables import SavedView

MOST_VIEWS = 200


class ViewBook:
    """All views."""

    def __init__(self, state: StateStore) -> None:
        self._state = state

    def all(self) -> list[View]:
        rows = self._state.read(lambda s: list(s.scalars(select(SavedView).order_by(SavedView.name))))
        return [_answer(row) for row in rows]

    def put(self, name: str, body: ViewBody, who: str) -> View:
        """Raises Refused 409 when there are too many, 422 for a filter that cannot be read."""
        read_filter(body.where, "where")

        def write(session: Session) -> SavedView:
            row = session.get(SavedView, name)
            if row is None and (session.scalar(select(func.count(SavedView.name))) or 0) >= MOST_VIEWS:
                raise Refused(409, f"There are {MOST_VIEWS} views already: delete some first.")
            return session.merge(SavedView(name=name, body=body.model_dump(), updated_by=who))

        return _answer(self._state.write(write))

    def delete(self, name: str) -> None:
        def write(session: Session) -> None:
            row = session.get(SavedView, name)
            if row is None:
                raise unknown("view", name)
            session.delete(row)

        self._state.write(write)


def _answer(row: SavedView) -> View:
    return View(name=row.name, updated_by=row.updated_by, **row.body)
