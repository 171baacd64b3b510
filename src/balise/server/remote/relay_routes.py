"""Relays: enrolling, asking for work, reporting, and looking at them."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Depends, Header, Query, Response

from balise.api.lists import Note, Page
from balise.api.relays import (
    Relay,
    RelayEnrol,
    RelayEnrolled,
    RelayReport,
    RelayWork,
    SendersAnswer,
    SendersQuestion,
    TrialAnswer,
)
from balise.server.callers import Administrator, ConsoleHere, Number, Viewer, Whoever, revealed
from balise.server.errors import Refused

router = APIRouter(prefix="/relays", tags=["relays"])


def the_relay(console: ConsoleHere, principal: Whoever) -> int:
    if principal is None or principal.relay is None or not console.relays.known(principal.relay):
        raise Refused(401, "This call is for enrolled relays: enrol this relay again.")
    return principal.relay


ThisRelay = Annotated[int, Depends(the_relay)]


@router.get("")
def list_relays(console: ConsoleHere, _who: Viewer) -> Page[Relay]:
    return Page[Relay](items=console.relays.all())


@router.delete("/{name}")
def remove_relay(console: ConsoleHere, who: Administrator, name: str) -> Note:
    console.relays.remove(name, who.name)
    console.access.forget_remembered()
    return Note(detail=f"the relay {name} may not forward any more; its hosts go to others")


@router.post("/enrol")
def enrol_relay(console: ConsoleHere, body: RelayEnrol) -> RelayEnrolled:
    answer = console.relays.enrol(body)
    console.access.forget_remembered()
    return answer


@router.post("/senders")
def ask_senders(console: ConsoleHere, relay: ThisRelay, body: SendersQuestion) -> SendersAnswer:
    """Whom tokens stand for, by their digests."""
    return SendersAnswer(senders=console.relays.senders(relay, body.digests))


@router.get("/work", response_model=RelayWork, responses={304: {"description": "as it was"}})
async def read_work(
    console: ConsoleHere,
    relay: ThisRelay,
    if_none_match: Annotated[str, Header(max_length=100)] = "",
    wait: Annotated[float, Query(ge=0, le=60)] = 0,
) -> Response:
    """The hosts to read and what they are read with; waits until they are others than those of the given ETag."""
    console.relays.heard(relay)
    work = await console.relays.wait_for_work(relay, if_none_match.strip('"'), wait)
    if work is None:
        return Response(status_code=304)
    return revealed(work, work.etag)


@router.put("/report")
def report(console: ConsoleHere, relay: ThisRelay, body: RelayReport) -> Note:
    console.relays.report(relay, body)
    return Note(detail="noted")


@router.put("/trials/{number}")
def tried(console: ConsoleHere, relay: ThisRelay, number: Number, body: TrialAnswer) -> Note:
    console.relays.tried(relay, number, body)
    return Note(detail="noted")
