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
from balise.server.callers import Administrator, Number, Viewer, Whoever, part, revealed
from balise.server.errors import Refused
from balise.server.remote.desk import RelayDesk
from balise.server.remote.relays import RelayBook
from balise.server.remote.speakers import Speakers

router = APIRouter(prefix="/relays", tags=["relays"])
DeskHere = Annotated[RelayDesk, part(RelayDesk)]
RelaysHere = Annotated[RelayBook, part(RelayBook)]
SpeakersHere = Annotated[Speakers, part(Speakers)]


def the_relay(relays: RelaysHere, principal: Whoever) -> int:
    if principal is None or principal.relay is None or relays.find(principal.relay) is None:
        raise Refused(401, "This call is for enrolled relays: enrol this relay again.")
    return principal.relay


ThisRelay = Annotated[int, Depends(the_relay)]


@router.get("")
def list_relays(relays: RelaysHere, _who: Viewer) -> Page[Relay]:
    return Page[Relay](items=relays.all())


@router.delete("/{name}")
def remove_relay(relays: RelaysHere, who: Administrator, name: str) -> Note:
    relays.remove(name, who.name)
    return Note(detail=f"the relay {name} may not forward any more; its hosts go to others")


@router.post("/enrol")
def enrol_relay(relays: RelaysHere, body: RelayEnrol) -> RelayEnrolled:
    return relays.enrol(body)


@router.post("/senders")
def ask_senders(speakers: SpeakersHere, relay: ThisRelay, body: SendersQuestion) -> SendersAnswer:
    """Whom tokens stand for, by their digests."""
    return SendersAnswer(senders=speakers.senders(relay, body.digests))


@router.get("/work", response_model=RelayWork, responses={304: {"description": "as it was"}})
async def read_work(
    desk: DeskHere,
    relays: RelaysHere,
    relay: ThisRelay,
    if_none_match: Annotated[str, Header(max_length=100)] = "",
    wait: Annotated[float, Query(ge=0, le=60)] = 0,
) -> Response:
    """The hosts to read and what they are read with; waits until they are others than those of the given ETag."""
    relays.by_number(relay).heard()
    work = await desk.wait_for_work(relay, if_none_match.strip('"'), wait)
    if work is None:
        return Response(status_code=304)
    return revealed(work, work.etag)


@router.put("/report")
def report(desk: DeskHere, relay: ThisRelay, body: RelayReport) -> Note:
    desk.report(relay, body)
    return Note(detail="noted")


@router.put("/trials/{number}")
def tried(desk: DeskHere, relay: ThisRelay, number: Number, body: TrialAnswer) -> Note:
    desk.tried(relay, number, body)
    return Note(detail="noted")
