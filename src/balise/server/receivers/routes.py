"""Receivers of syslog."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path

from balise.api.lists import Note, Page
from balise.api.receivers import Receiver, ReceiverBody
from balise.api.spans import Name
from balise.server.callers import Administrator, Viewer, part
from balise.server.receivers.book import ReceiverBook

router = APIRouter(prefix="/receivers", tags=["events"])
ReceiversHere = Annotated[ReceiverBook, part(ReceiverBook)]
ReceiverName = Annotated[Name, Path()]


@router.get("")
def list_receivers(receivers: ReceiversHere, _who: Viewer) -> Page[Receiver]:
    return Page[Receiver](items=receivers.all())


@router.get("/{name}")
def read_receiver(receivers: ReceiversHere, _who: Viewer, name: ReceiverName) -> Receiver:
    return receivers.get(name)


@router.put("/{name}")
def put_receiver(receivers: ReceiversHere, who: Administrator, name: ReceiverName, body: ReceiverBody) -> Receiver:
    """Takes syslog in at an address from now on. A port in use is a 409."""
    return receivers.put(name, body, who.name)


@router.delete("/{name}")
def delete_receiver(receivers: ReceiversHere, who: Administrator, name: ReceiverName) -> Note:
    receivers.delete(name, who.name)
    return Note(detail=f"receiver {name} deleted; what it took in stays")
