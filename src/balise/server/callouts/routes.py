"""Callouts."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter

from balise.api.callouts import Callout, CalloutBody, CalloutDocument, CalloutRead, CalloutText
from balise.api.lists import Note, Page
from balise.api.spans import Name
from balise.core.callouts.text import callout_text
from balise.core.callouts.text import read_callout as callout_of
from balise.server.callers import Administrator, Viewer, part
from balise.server.callouts.book import CalloutBook
from balise.server.filters.book import FilterBook

router = APIRouter(prefix="/callouts", tags=["notification"])
FiltersHere = Annotated[FilterBook, part(FilterBook)]
CalloutsHere = Annotated[CalloutBook, part(CalloutBook)]


@router.get("")
def list_callouts(callouts: CalloutsHere, _who: Viewer) -> Page[Callout]:
    return Page[Callout](items=callouts.all())


@router.post("/read")
def read_callout_text(_who: Viewer, body: CalloutText) -> CalloutRead:
    """A callout from its text, or what is wrong with it, by line and column; nothing is kept."""
    return callout_of(body.text)


@router.post("/written")
def write_callout_text(_who: Viewer, body: CalloutDocument) -> CalloutText:
    """A callout as a file has it."""
    return CalloutText(text=callout_text(body))


@router.get("/{name}")
def read_callout(callouts: CalloutsHere, _who: Viewer, name: str) -> Callout:
    return callouts.get(name)


@router.put("/{name}")
def put_callout(
    callouts: CalloutsHere, filters: FiltersHere, who: Administrator, name: Name, body: CalloutBody
) -> Callout:
    return callouts.put(name, filters.put_in(body, "when"), who.name)


@router.delete("/{name}")
def delete_callout(callouts: CalloutsHere, who: Administrator, name: str) -> Note:
    callouts.delete(name, who.name)
    return Note(detail=f"callout {name} deleted")
