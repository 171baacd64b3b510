"""Events: searching, counting, following them live."""

from __future__ import annotations

import time
from collections.abc import AsyncIterator
from typing import Annotated, Any

from fastapi import APIRouter, Query, Request, Response
from fastapi.responses import StreamingResponse

from balise.api.events import SEVERITIES, Event, EventQuery, HistogramAnswer, HistogramQuery, PatternAnswer
from balise.api.lists import Page
from balise.api.metrics import FilterText
from balise.core import filters
from balise.core.series.steps import NS, steps_between
from balise.server.asking import read_filter, span_of
from balise.server.callers import ConsoleHere, Viewer, in_turn, stream_of
from balise.server.console import Console
from balise.server.errors import bad_field
from balise.server.events.evidence import MOST_LINES, counted_patterns
from balise.store.events.store import BadCursor, Search
from balise.store.events.words import WordMatch

router = APIRouter()


def _search(body: EventQuery | HistogramQuery) -> Search:
    start, end = span_of(body.from_, body.to, time.time())
    return Search(int(start * NS), int(end * NS), body.text or "", read_filter(body.where, "where"))


@router.post("/events/query", tags=["events"], response_model=Page[Event])
async def query_events(console: ConsoleHere, who: Viewer, body: EventQuery) -> Response:
    """Newest first."""
    return await in_turn(console, who, lambda: _found(console, body))


def _found(console: Console, body: EventQuery) -> Page[Event]:
    try:
        items, cursor = console.events.find(_search(body), body.limit, body.cursor)
    except BadCursor as error:
        raise bad_field("cursor", str(error)) from None
    except filters.FilterError as error:
        raise bad_field("where", str(error)) from None
    return Page[Event](items=items, next=cursor)


@router.post("/events/histogram", tags=["events"], response_model=HistogramAnswer)
async def count_events(console: ConsoleHere, who: Viewer, body: HistogramQuery) -> Response:
    """How many there were over the span, by severity."""
    return await in_turn(console, who, lambda: _counted(console, body))


def _counted(console: Console, body: HistogramQuery) -> HistogramAnswer:
    search = _search(body)
    steps = steps_between(search.start / NS, search.end / NS, step=None, points=body.bars)
    try:
        bars = console.events.histogram(search, steps.start, steps.width, steps.count)
    except filters.FilterError as error:
        raise bad_field("where", str(error)) from None
    return HistogramAnswer(
        step_seconds=steps.width / NS,
        times=[(steps.start + i * steps.width) / NS for i in range(steps.count)],
        counts={name: bars[code] for code, name in enumerate(SEVERITIES) if any(bars[code])},
        total=sum(map(sum, bars)),
    )


@router.post("/events/patterns", tags=["events"], response_model=PatternAnswer)
async def count_patterns(console: ConsoleHere, who: Viewer, body: HistogramQuery) -> Response:
    """What the log says: lines alike but for their numbers, counted, with how many are usual."""
    return await in_turn(console, who, lambda: _patterns(console, body))


def _patterns(console: Console, body: HistogramQuery) -> PatternAnswer:
    now = _search(body)
    before = Search(2 * now.start - now.end, now.start, now.text, now.where)
    items = counted_patterns(console.events, now, before, 20)
    return PatternAnswer(items=items, read=min(MOST_LINES, sum(i.count for i in items)))


@router.get("/events/live", tags=["events"])
async def follow_events(
    console: ConsoleHere,
    who: Viewer,
    request: Request,
    where: FilterText | None = None,
    text: Annotated[str | None, Query(max_length=500)] = None,
) -> StreamingResponse:
    """Server-sent events: each matching event as it arrives, as `event`."""
    node = read_filter(where, "where")
    has_words = WordMatch(text) if text and text.strip() else None

    def wants(topic: str, content: Any) -> bool:
        if topic != "event" or (has_words is not None and not has_words(content["body"])):
            return False
        if node is None:
            return True
        own = filters.by_name(content["attributes"].items())
        return filters.matches(node, lambda name: _event_attribute(console, content, own, name))

    return _stream(stream_of(request, console, who, "viewer", wants))


@router.get("/live", tags=["live"])
async def follow(console: ConsoleHere, who: Viewer, request: Request) -> StreamingResponse:
    """Server-sent events: `state` when a host's state changes, `alert` when an alert opens, changes or ends."""
    return _stream(stream_of(request, console, who, "viewer", lambda topic, _: topic in ("state", "alert")))


def _stream(content: AsyncIterator[bytes]) -> StreamingResponse:
    return StreamingResponse(
        content,
        media_type="text/event-stream",
        headers={"Cache-Control": "no-store", "X-Accel-Buffering": "no"},
    )


def _event_attribute(console: Console, event: dict[str, Any], own: dict[str, Any], name: str) -> Any:
    if name in ("host", "severity", "source", "body"):
        return event[name]
    if name == "group" or name.startswith("label."):
        known = console.directory.find(event["host"])
        return console.directory.attribute(known.id, name) if known else None
    return own.get(name)
