"""Events: searching, counting, following them live."""

from __future__ import annotations

import time
from collections.abc import AsyncIterator
from functools import partial
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Path, Query, Request, Response
from fastapi.responses import StreamingResponse

from balise.api.events import (
    AroundAnswer,
    Event,
    EventQuery,
    ExportQuery,
    FieldsAnswer,
    FieldsQuery,
    HistogramAnswer,
    HistogramQuery,
    PatternAnswer,
    PatternQuery,
)
from balise.api.lists import Page
from balise.api.metrics import FilterName, FilterText
from balise.api.parsers import ParserAnswer, ParserQuestion
from balise.api.sign_ins import SignInAnswer
from balise.api.spans import Instant, rfc3339
from balise.core.events.formats import FORMATS
from balise.core.events.sign_in_counts import By
from balise.server.asking import span_of
from balise.server.callers import Live, Turn, Viewer, part, stream_of
from balise.server.events.fields import FieldSearch
from balise.server.events.parsers import tried_lines
from balise.server.events.patterns import PatternSearch
from balise.server.events.search import EventSearch
from balise.server.events.sign_ins import SignInSearch
from balise.server.filters.book import FilterBook

_TEXT = {"schema": {"type": "string"}}
_FILES: dict[str, Any] = {"content": {kind.media_type.split(";")[0]: _TEXT for kind in FORMATS.values()}}
router = APIRouter()
EventNumber = Annotated[str, Path(pattern=r"^\d{1,6}--?\d{1,18}$")]
Scope = Literal["source", "host"]
FiltersHere = Annotated[FilterBook, part(FilterBook)]
EventsHere = Annotated[EventSearch, part(EventSearch)]


@router.post("/events/query", tags=["events"], response_model=Page[Event])
async def query_events(events: EventsHere, turn: Turn, who: Viewer, filters: FiltersHere, body: EventQuery) -> Response:
    """Newest first."""
    return await turn.answered(who, lambda: events.find(filters.applied(body)))


@router.post("/events/histogram", tags=["events"], response_model=HistogramAnswer)
async def count_events(
    events: EventsHere, turn: Turn, who: Viewer, filters: FiltersHere, body: HistogramQuery
) -> Response:
    """How many there were over the span, by severity."""
    return await turn.answered(who, lambda: events.count(filters.applied(body)))


@router.post("/events/patterns", tags=["events"], response_model=PatternAnswer)
async def count_patterns(
    patterns: Annotated[PatternSearch, part(PatternSearch)],
    turn: Turn,
    who: Viewer,
    filters: FiltersHere,
    body: PatternQuery,
) -> Response:
    """What the log says: lines that say the same with other values are one row, beside the day and the week before."""
    return await turn.answered(who, lambda: patterns.of(filters.applied(body)))


@router.post("/events/fields", tags=["events"], response_model=FieldsAnswer)
async def count_fields(
    fields: Annotated[FieldSearch, part(FieldSearch)],
    turn: Turn,
    who: Viewer,
    filters: FiltersHere,
    body: FieldsQuery,
) -> Response:
    """The top values of attributes in the span, with how many events have them."""
    return await turn.answered(who, lambda: fields.of(filters.applied(body)))


@router.post("/events/export", tags=["events"], response_class=StreamingResponse, responses={200: _FILES})
async def export_events(
    events: EventsHere, turn: Turn, who: Viewer, filters: FiltersHere, body: ExportQuery
) -> StreamingResponse:
    """All events of a question as a file: CSV, JSON Lines or RFC 5424, however many, the newest first."""
    start, end = span_of(body.from_, body.to, time.time())
    # Every part is of the same span, whenever it is read.
    fixed = {"from_": rfc3339(start), "to": rfc3339(end + 0.001)}
    whole = filters.applied(body).model_copy(update=fixed)
    first = await turn.asked(who, partial(events.part, whole, None))

    async def content() -> AsyncIterator[bytes]:
        part, cursor = first
        yield part
        while cursor is not None:
            part, cursor = await turn.asked(who, partial(events.part, whole, cursor))
            yield part

    kind = FORMATS[body.format]
    name = f'attachment; filename="events.{kind.ending}"'
    headers = {"Content-Disposition": name, "Cache-Control": "no-store"}
    return StreamingResponse(content(), media_type=kind.media_type, headers=headers)


@router.get("/events/live", tags=["events"])
async def follow_events(
    events: EventsHere,
    hub: Live,
    who: Viewer,
    filters: FiltersHere,
    request: Request,
    where: FilterText | None = None,
    filter: FilterName | None = None,
    text: Annotated[str | None, Query(max_length=500)] = None,
) -> StreamingResponse:
    """Server-sent events: each matching event as it arrives, as `event`."""
    wanted = events.follows(filters.text(where, filter), text)
    return _stream(stream_of(request, hub, who, "viewer", lambda topic, content: topic == "event" and wanted(content)))


@router.post("/parsers/try", tags=["events"])
def try_parser(_who: Viewer, body: ParserQuestion) -> ParserAnswer:
    """Lines as the events that a parser makes of them, and why it does not fit those that it does not fit."""
    return tried_lines(body)


@router.get("/sign-ins", tags=["events"], response_model=SignInAnswer)
async def list_sign_ins(
    sign_ins: Annotated[SignInSearch, part(SignInSearch)],
    turn: Turn,
    who: Viewer,
    filters: FiltersHere,
    from_: Annotated[Instant, Query(alias="from")] = "-24h",
    to: Annotated[Instant, Query()] = "now",
    by: Annotated[By, Query(description="by account, by address, or by both")] = "address",
    sweep: Annotated[int, Query(ge=2, le=10_000, description="from how many accounts on an address sweeps")] = 5,
    where: FilterText | None = None,
    filter: FilterName | None = None,
    limit: Annotated[int, Query(ge=1, le=1000)] = 200,
) -> Response:
    """Who tried to sign in, and who did: what should be looked at first comes first.

    `where` may ask `host`, `account`, `address`, `how`, and what a host is: `group`, `label.…`.
    """
    text = filters.text(where, filter)
    return await turn.answered(who, lambda: sign_ins.of(from_, to, by, sweep=sweep, where=text, limit=limit))


@router.get("/events/{number}", tags=["events"])
def read_event(events: EventsHere, _who: Viewer, number: EventNumber) -> Event:
    return events.one(number)


@router.get("/events/{number}/around", tags=["events"], response_model=AroundAnswer)
async def read_around(
    events: EventsHere,
    turn: Turn,
    who: Viewer,
    number: EventNumber,
    scope: Annotated[Scope, Query(description="its source on its host, or all of that host")] = "source",
    lines: Annotated[int, Query(ge=1, le=200)] = 50,
) -> Response:
    """The lines before and after an event, in the order of time, no further away than a day."""
    return await turn.answered(who, lambda: events.around(number, lines, source=scope == "source"))


@router.get("/live", tags=["live"])
async def follow(hub: Live, who: Viewer, request: Request) -> StreamingResponse:
    """Server-sent events: `state` when a host's state changes, `alert` when an alert opens, changes or ends."""
    return _stream(stream_of(request, hub, who, "viewer", lambda topic, _: topic in ("state", "alert", "incident")))


def _stream(content: AsyncIterator[bytes]) -> StreamingResponse:
    return StreamingResponse(
        content,
        media_type="text/event-stream",
        headers={"Cache-Control": "no-store", "X-Accel-Buffering": "no"},
    )
