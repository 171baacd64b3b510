"""Incidents: looking at them and dealing with them."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query
from fastapi import Response as HttpResponse

from balise.api.callouts import WhoAsked, WouldBeTold
from balise.api.channels import Preview, Previewed
from balise.api.drills import Drill, DrillStarted
from balise.api.incidents import (
    Acknowledged,
    AddNote,
    Close,
    HandOver,
    Incident,
    IncidentDetail,
    Join,
    Part,
    Snooze,
    Take,
    Together,
    TogetherDone,
)
from balise.api.lists import Note, Page
from balise.api.metrics import FilterName, FilterText
from balise.api.responses import Response, ResponseBody
from balise.api.spans import Name
from balise.server.callers import Administrator, Number, Operator, Viewer, part
from balise.server.filters.book import FilterBook
from balise.server.incidents.acts import IncidentActs
from balise.server.incidents.drills import Drills
from balise.server.incidents.responses import ResponseBook
from balise.server.incidents.search import IncidentSearch
from balise.server.incidents.telling import Messages
from balise.server.incidents.who import Who
from balise.server.packing import packed

router = APIRouter(tags=["incidents"])
FiltersHere = Annotated[FilterBook, part(FilterBook)]
ActsHere = Annotated[IncidentActs, part(IncidentActs)]
SearchHere = Annotated[IncidentSearch, part(IncidentSearch)]
DrillsHere = Annotated[Drills, part(Drills)]
MessagesHere = Annotated[Messages, part(Messages)]
ResponsesHere = Annotated[ResponseBook, part(ResponseBook)]
WhoHere = Annotated[Who, part(Who)]


@router.get("/incidents", response_model=Page[Incident])
async def list_incidents(
    search: SearchHere,
    filters: FiltersHere,
    _who: Viewer,
    where: FilterText | None = None,
    filter: FilterName | None = None,
    state: Annotated[str | None, Query(pattern="^(open|closed)$")] = None,
    limit: Annotated[int, Query(ge=1, le=200)] = 100,
    cursor: Annotated[str | None, Query(pattern=r"^\d{1,18}$")] = None,
) -> HttpResponse:
    """The newest first, of those that are open the worst; each with its worst alerts."""
    return await packed(lambda: search.page(where=filters.text(where, filter), state=state, limit=limit, cursor=cursor))


@router.post("/incidents/together")
def act_together(acts: ActsHere, who: Operator, body: Together) -> Page[TogetherDone]:
    """The same for several incidents; what cannot be done says why and holds up no other."""
    return Page[TogetherDone](items=acts.together(body, who.name))


@router.get("/incidents/{number}", response_model=IncidentDetail)
async def read_incident(search: SearchHere, _who: Viewer, number: Number) -> HttpResponse:
    return await packed(lambda: search.get(number))


@router.post("/incidents/{number}/acknowledge")
def acknowledge_incident(
    acts: ActsHere, search: SearchHere, who: Operator, number: Number, body: Acknowledged
) -> IncidentDetail:
    """Somebody has seen it. Callouts go on until somebody takes it."""
    acts.acknowledge(number, who.name, body.note)
    return search.get(number)


@router.post("/incidents/{number}/take")
def take_incident(acts: ActsHere, search: SearchHere, who: Operator, number: Number, body: Take) -> IncidentDetail:
    """Whoever asks has it, or the person who is named: callouts tell nobody else."""
    acts.take(number, who.name, body.person, body.note)
    return search.get(number)


@router.post("/incidents/{number}/hand-over")
def hand_over_incident(
    acts: ActsHere, search: SearchHere, who: Operator, number: Number, body: HandOver
) -> IncidentDetail:
    """Another person has it from now on, and is told."""
    acts.hand_over(number, who.name, body.to, body.note)
    return search.get(number)


@router.post("/incidents/{number}/note")
def note_incident(acts: ActsHere, search: SearchHere, who: Operator, number: Number, body: AddNote) -> IncidentDetail:
    acts.note(number, who.name, body.text)
    return search.get(number)


@router.post("/incidents/{number}/snooze")
def snooze_incident(acts: ActsHere, search: SearchHere, who: Operator, number: Number, body: Snooze) -> IncidentDetail:
    """Nobody is told until then, or until it is worse; then it is told anew."""
    acts.snooze(number, who.name, body)
    return search.get(number)


@router.post("/incidents/{number}/close")
def close_incident(acts: ActsHere, search: SearchHere, who: Operator, number: Number, body: Close) -> IncidentDetail:
    acts.close(number, who.name, body.reason)
    return search.get(number)


@router.post("/incidents/{number}/reopen")
def reopen_incident(acts: ActsHere, search: SearchHere, who: Operator, number: Number) -> IncidentDetail:
    acts.reopen(number, who.name)
    return search.get(number)


@router.post("/incidents/{number}/join")
def join_incident(acts: ActsHere, search: SearchHere, who: Operator, number: Number, body: Join) -> IncidentDetail:
    """Another incident is a part of this one from now on."""
    acts.join(number, who.name, body.with_)
    return search.get(number)


@router.post("/incidents/{number}/part")
def part_incident(acts: ActsHere, search: SearchHere, who: Operator, number: Number, body: Part) -> IncidentDetail:
    """Some of its alerts are an incident of their own from now on, which is answered."""
    return search.get(acts.part(number, who.name, body.alerts))


@router.post("/callouts/who")
def who_would_be_told(who_: WhoHere, _who: Viewer, body: WhoAsked) -> Page[WouldBeTold]:
    """Who would be told if this happened now, or at another time, and why."""
    return Page[WouldBeTold](items=who_.told(body))


@router.post("/channels/preview")
def preview_template(messages: MessagesHere, _who: Administrator, body: Preview) -> Previewed:
    """What a template makes of a real incident: as it would be sent, with a link that nobody can act by."""
    return Previewed(body=messages.preview(body))


@router.post("/callouts/{name}/drill")
def start_drill(drills: DrillsHere, who: Operator, name: str) -> DrillStarted:
    """A practice incident goes the real way to those whom a callout tells."""
    return DrillStarted(id=drills.start(name, who.name))


@router.get("/responses")
def list_responses(responses: ResponsesHere, _who: Viewer) -> Page[Response]:
    return Page[Response](items=responses.all())


@router.get("/responses/{name}")
def read_response(responses: ResponsesHere, _who: Viewer, name: str) -> Response:
    return responses.get(name)


@router.put("/responses/{name}")
def put_response(
    responses: ResponsesHere, filters: FiltersHere, who: Administrator, name: Name, body: ResponseBody
) -> Response:
    """What is done by itself when an incident opens, or is over."""
    return responses.put(name, filters.put_in(body, "when"), who.name)


@router.delete("/responses/{name}")
def delete_response(responses: ResponsesHere, who: Administrator, name: str) -> Note:
    responses.delete(name, who.name)
    return Note(detail=f"response {name} deleted")


@router.get("/drills/{number}")
def read_drill(drills: DrillsHere, _who: Viewer, number: Number) -> Drill:
    return drills.get(number)
