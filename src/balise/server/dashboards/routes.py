"""Dashboards."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Depends, Path, Query, Response

from balise.api.dashboards import (
    Dashboard,
    DashboardAnswer,
    DashboardAsked,
    DashboardBody,
    DashboardDocument,
    DashboardInList,
    DashboardRead,
    DashboardText,
    DashboardVersion,
    RestoreDashboard,
)
from balise.api.lists import Note, Page
from balise.api.spans import Name
from balise.server.callers import Turn, Viewer, Whoever, part, viewer
from balise.server.dashboards.answering import Answering
from balise.server.dashboards.book import DashboardBook, read_text, text_of
from balise.server.people.access import Principal

router = APIRouter(prefix="/dashboards", tags=["dashboards"])
BookHere = Annotated[DashboardBook, part(DashboardBook)]
AnsweringHere = Annotated[Answering, part(Answering)]


async def looker(principal: Whoever) -> Principal:
    """A viewer, or a screen that nobody touches, which sees its own dashboards alone."""
    if principal is not None and principal.role == "screen":
        return principal
    return await viewer(principal)


Looker = Annotated[Principal, Depends(looker)]


@router.get("")
def list_dashboards(book: BookHere, who: Viewer) -> Page[DashboardInList]:
    """One's own, those that are shared, and those that kits bring."""
    return Page[DashboardInList](items=book.all(who))


@router.post("/read")
def read_dashboard_text(_who: Viewer, body: DashboardText) -> DashboardRead:
    """A dashboard from its text, or what is wrong with it, by line and column; nothing is kept."""
    return read_text(body.text)


@router.post("/written")
def write_dashboard_text(
    _who: Viewer, body: DashboardDocument, form: Annotated[str, Query(pattern=r"^(json|yaml)$")] = "json"
) -> DashboardText:
    """A dashboard as a file has it."""
    return DashboardText(text=text_of(body, as_json=form == "json"))


@router.get("/{name}")
def read_dashboard(book: BookHere, who: Looker, name: str) -> Dashboard:
    return book.get(name, who)


@router.put("/{name}")
def put_dashboard(book: BookHere, who: Viewer, name: Annotated[Name, Path()], body: DashboardBody) -> Dashboard:
    """Keeps a dashboard as it is now; the form before stays as a version. Everybody has their own; sharing needs the
    role operator."""
    return book.put(name, body, who)


@router.delete("/{name}")
def delete_dashboard(book: BookHere, who: Viewer, name: str) -> Note:
    book.delete(name, who)
    return Note(detail=f"the dashboard {name} is gone")


@router.post("/{name}/answers", response_model=DashboardAnswer)
async def answer_dashboard(
    book: BookHere, answering: AnsweringHere, turn: Turn, who: Looker, name: str, body: DashboardAsked
) -> Response:
    """All that a dashboard shows for a span and what was chosen, in one go."""
    return await turn.answered(who, lambda: answering.of(book.get(name, who), body))


@router.get("/{name}/versions")
def list_dashboard_versions(book: BookHere, who: Viewer, name: str) -> Page[DashboardVersion]:
    """The newest first."""
    return Page[DashboardVersion](items=book.versions(name, who))


@router.post("/{name}/restore")
def restore_dashboard(book: BookHere, who: Viewer, name: Annotated[Name, Path()], body: RestoreDashboard) -> Dashboard:
    """As it was in an earlier version."""
    return book.restore(name, body.version, who)
