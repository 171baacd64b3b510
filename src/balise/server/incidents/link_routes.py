"""Acting by the signed link of a message. Looking at it changes nothing."""

from __future__ import annotations

import time
from typing import Annotated

from fastapi import APIRouter, Path

from balise.api.incidents import LinkAct, LinkAsked, Snooze
from balise.api.lists import Note
from balise.api.spans import rfc3339
from balise.server.callers import part
from balise.server.callouts.links import MOST_CHARACTERS, Grant, Links
from balise.server.callouts.persons import PersonBook
from balise.server.errors import Refused, bad_field
from balise.server.incidents.acts import IncidentActs
from balise.server.incidents.search import IncidentSearch

router = APIRouter(prefix="/links", tags=["incidents"])
LinksHere = Annotated[Links, part(Links)]
ActsHere = Annotated[IncidentActs, part(IncidentActs)]
SearchHere = Annotated[IncidentSearch, part(IncidentSearch)]
PersonsHere = Annotated[PersonBook, part(PersonBook)]
Token = Annotated[str, Path(max_length=MOST_CHARACTERS, pattern=r"^[A-Za-z0-9._-]+$")]


@router.get("/{token}")
def read_link(links: LinksHere, search: SearchHere, persons: PersonsHere, token: Token) -> LinkAsked:
    """What a link is about. It changes nothing, however often and by whatever it is fetched."""
    grant = _grant(links, token)
    incident = search.get(grant.incident)
    return LinkAsked(
        incident=incident.id,
        title=incident.title,
        severity=incident.severity,
        state=incident.state,
        opened_at=incident.opened_at,
        hurts=incident.hurts,
        hosts=incident.hosts[:10],
        taken_by=incident.taken_by,
        advice=incident.advice,
        person=grant.person,
        until=rfc3339(grant.until),
        people=persons.names(),
        practice=incident.practice,
    )


@router.post("/{token}")
def act_by_link(links: LinksHere, acts: ActsHere, token: Token, body: LinkAct) -> Note:
    """Acts as whom the link was sent to; where a channel has many readers, whoever acts says who they are."""
    grant = _grant(links, token)
    if grant.person is None and not body.name.strip():
        raise bad_field("name", "say who you are: this link was sent to a channel that several people read")
    who = f"{grant.person or body.name.strip()} (by link, {grant.channel})"
    mine = grant.person or body.name.strip()
    if body.act == "take":
        acts.take(grant.incident, who, mine, body.text)
        return Note(detail=f"{mine} has it: nobody else is called.")
    if body.act == "hand-over":
        if body.to is None:
            raise bad_field("to", "say to whom")
        acts.hand_over(grant.incident, who, body.to, body.text)
        return Note(detail=f"{body.to} has it and is told.")
    if body.act == "note":
        if not body.text:
            raise bad_field("text", "say what is to be written")
        acts.note(grant.incident, who, body.text)
        return Note(detail="The note is kept.")
    acts.snooze(grant.incident, who, Snooze(until=body.until, until_worse=body.until is None))
    return Note(detail="Nobody is told until then." if body.until else "Nobody is told until it is worse.")


def _grant(links: Links, token: str) -> Grant:
    grant = links.read(token, time.time())
    if grant is None:
        raise Refused(404, "This link is not good any more: open the incident in the console, or use a newer message.")
    return grant
