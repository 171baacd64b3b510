"""The trail: likely causes, and what people said of them."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query, Response

from balise.api.lists import Note
from balise.api.trail import CauseBody, SaidCause, Trail, TrailQuery, TrailRecord
from balise.server.callers import Number, Operator, Turn, Viewer, part
from balise.server.trail.causes import CauseBook
from balise.server.trail.trails import Trails

router = APIRouter(tags=["trail"])
TrailsHere = Annotated[Trails, part(Trails)]
CausesHere = Annotated[CauseBook, part(CauseBook)]


@router.get("/incidents/{number}/trail", response_model=Trail)
async def trail_of_incident(trails: TrailsHere, turn: Turn, who: Viewer, number: Number) -> Response:
    """The likely causes of an incident, the likeliest first, each with its evidence; and all that departed."""
    return await turn.answered(who, lambda: trails.of_incident(number))


@router.post("/trail", response_model=Trail)
async def trail_of_place(trails: TrailsHere, turn: Turn, who: Viewer, body: TrailQuery) -> Response:
    """The likely causes of what is felt at a host, a service, an application or an alert, in a stretch of time."""
    return await turn.answered_at_length(who, lambda: trails.ask(body))


@router.post("/incidents/{number}/cause", response_model=SaidCause)
async def say_cause(
    trails: TrailsHere, causes: CausesHere, turn: Turn, who: Operator, number: Number, body: CauseBody
) -> Response:
    """Says which suspect was right, or what else it was: it is shown the next time, counted, and moves the odds."""
    return await turn.answered(who, lambda: causes.say(number, body, trails.of_incident(number), who.name))


@router.delete("/incidents/{number}/cause")
def take_back_cause(causes: CausesHere, who: Operator, number: Number) -> Note:
    """What was said of the cause counts no more."""
    causes.take_back(number, who.name)
    return Note(detail=f"what was said of the cause of incident {number} was taken back")


@router.get("/trail/record")
def read_record(
    causes: CausesHere, _who: Viewer, days: Annotated[int | None, Query(ge=1, le=3660)] = None
) -> TrailRecord:
    """How often which rank was right, as people said, in so many days or at all; and what that moves."""
    return causes.record(days)
