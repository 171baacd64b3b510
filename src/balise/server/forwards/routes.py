"""Forwards of events and points."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path

from balise.api.forwards import Forward, ForwardBody
from balise.api.lists import Note, Page
from balise.api.spans import Name
from balise.server.callers import Administrator, Viewer, part
from balise.server.forwards.book import ForwardBook

router = APIRouter(prefix="/forwards", tags=["events"])
ForwardsHere = Annotated[ForwardBook, part(ForwardBook)]
ForwardName = Annotated[Name, Path()]


@router.get("")
def list_forwards(forwards: ForwardsHere, _who: Viewer) -> Page[Forward]:
    return Page[Forward](items=forwards.all())


@router.get("/{name}")
def read_forward(forwards: ForwardsHere, _who: Viewer, name: ForwardName) -> Forward:
    return forwards.get(name)


@router.put("/{name}")
def put_forward(forwards: ForwardsHere, who: Administrator, name: ForwardName, body: ForwardBody) -> Forward:
    """Sends events or points on from now on, each at least once, over syslog or OTLP."""
    return forwards.put(name, body, who)


@router.delete("/{name}")
def delete_forward(forwards: ForwardsHere, who: Administrator, name: ForwardName) -> Note:
    forwards.delete(name, who.name)
    return Note(detail=f"forward {name} deleted: nothing is sent on any more")
