"""How much of a span things were there."""

from __future__ import annotations

import time
from typing import Annotated

from fastapi import APIRouter, Query, Response

from balise.api.availability import Availability, AvailabilityList, AvailabilityTarget, AvailableOf
from balise.api.lists import Note
from balise.api.spans import Instant
from balise.server.asking import span_of
from balise.server.availability.book import MOST_LISTED, AvailabilityBook
from balise.server.callers import Operator, Turn, Viewer, part
from balise.server.filters.book import FilterBook

router = APIRouter(prefix="/availability", tags=["availability"])
BookHere = Annotated[AvailabilityBook, part(AvailabilityBook)]
FiltersHere = Annotated[FilterBook, part(FilterBook)]
Named = Annotated[str, Query(min_length=1, max_length=220, description="of a service HOST/SERVICE")]


@router.get("", response_model=Availability)
async def read_availability(
    book: BookHere,
    turn: Turn,
    who: Viewer,
    of: AvailableOf,
    name: Named,
    from_: Annotated[Instant, Query(alias="from")] = "-30d",
    to: Instant = "now",
) -> Response:
    """Shares of up, down, unknown and maintenance; outages with their incidents; and what a target leaves."""
    start, end = span_of(from_, to, time.time())
    return await turn.answered(who, lambda: book.of(of, name, start, end))


@router.get("/list", response_model=AvailabilityList)
async def list_availability(
    book: BookHere,
    filters: FiltersHere,
    turn: Turn,
    who: Viewer,
    of: AvailableOf,
    where: Annotated[str | None, Query(max_length=2000)] = None,
    filter: Annotated[str | None, Query(max_length=100)] = None,
    from_: Annotated[Instant, Query(alias="from")] = "-30d",
    to: Instant = "now",
    limit: Annotated[int, Query(ge=1, le=MOST_LISTED)] = MOST_LISTED,
) -> Response:
    """All of a kind, those that were down longest first."""
    start, end = span_of(from_, to, time.time())
    return await turn.answered(who, lambda: book.all_of(of, filters.text(where, filter), start, end, limit))


@router.put("/target")
def set_target(book: BookHere, who: Operator, of: AvailableOf, name: Named, body: AvailabilityTarget) -> Note:
    book.set_target(of, name, body, who.name)
    return Note(detail=f"{of} {name} is to be up {body.share:.4%} of each {body.per}")


@router.delete("/target")
def drop_target(book: BookHere, who: Operator, of: AvailableOf, name: Named) -> Note:
    book.drop_target(of, name, who.name)
    return Note(detail=f"{of} {name} has no target any more")
