"""Saved views of the fleet."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from balise.api.hosts import View, ViewBody
from balise.api.lists import Note, Page
from balise.api.spans import Name
from balise.server.asking import read_filter
from balise.server.callers import ConsoleHere, Operator, Viewer
from balise.server.errors import Refused, unknown
from balise.store.state.tables import SavedView

router = APIRouter(prefix="/views", tags=["views"])
MOST_VIEWS = 200


@router.get("")
def list_views(console: ConsoleHere, _who: Viewer) -> Page[View]:
    rows = console.state.read(lambda s: list(s.scalars(select(SavedView).order_by(SavedView.name))))
    return Page[View](items=[_view(row) for row in rows])


@router.put("/{name}")
def put_view(console: ConsoleHere, who: Operator, name: Annotated[Name, Path()], body: ViewBody) -> View:
    read_filter(body.where, "where")

    def write(session: Session) -> SavedView:
        row = session.get(SavedView, name)
        if row is None and (session.scalar(select(func.count(SavedView.name))) or 0) >= MOST_VIEWS:
            raise Refused(409, f"There are {MOST_VIEWS} views already: delete some first.")
        return session.merge(SavedView(name=name, body=body.model_dump(), updated_by=who.name))

    return _view(console.state.write(write))


@router.delete("/{name}")
def delete_view(console: ConsoleHere, _who: Operator, name: str) -> Note:
    def write(session: Session) -> None:
        row = session.get(SavedView, name)
        if row is None:
            raise unknown("view", name)
        session.delete(row)

    console.state.write(write)
    return Note(detail=f"the view {name} is gone")


def _view(row: SavedView) -> View:
    return View(name=row.name, updated_by=row.updated_by, **row.body)
