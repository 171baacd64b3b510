"""What the service says of itself, and how long it keeps things."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Response

from balise.api.keeping import Keeping, RetentionAnswer, RetentionBody
from balise.api.status import Status
from balise.server.callers import Administrator, Viewer, Whoever, part
from balise.server.filters.book import FilterBook
from balise.server.keeping.figures import OwnFigures
from balise.server.keeping.retention import RetentionBook
from balise.server.packing import packed

router = APIRouter(tags=["status"])
RetentionHere = Annotated[RetentionBook, part(RetentionBook)]


@router.get("/status", response_model=Status)
async def read_status(figures: Annotated[OwnFigures, part(OwnFigures)], principal: Whoever) -> Response:
    """Whether the service is ready; with a token, its own figures too."""
    whole = principal is not None and principal.may("viewer")
    return await packed(lambda: figures.status(whole=whole))


@router.get("/settings/keeping")
def read_keeping(retention: RetentionHere, _who: Viewer) -> Keeping:
    """How long things are kept."""
    return retention.get()


@router.put("/settings/keeping")
def set_keeping(retention: RetentionHere, who: Administrator, body: Keeping) -> Keeping:
    """Keeps things so long from now on. What is older is forgotten for good within a minute, which makes room."""
    return retention.set(body, who.name)


@router.get("/retention")
def read_retention(retention: RetentionHere, _who: Viewer) -> RetentionAnswer:
    """How long points and events are kept, by filter, beside what they take now and when the disk is full."""
    return retention.shown()


@router.put("/retention")
def set_retention(
    retention: RetentionHere,
    filters: Annotated[FilterBook, part(FilterBook)],
    who: Administrator,
    body: RetentionBody,
) -> RetentionAnswer:
    """Keeps points and events so long from now on. What is older is forgotten for good, which makes room."""
    body = body.model_copy(update={"events": [filters.put_in(entry) for entry in body.events]})
    return retention.put(body, who.name)
