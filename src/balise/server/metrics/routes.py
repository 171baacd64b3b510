"""Metrics: which there are, and questions about them."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated

from fastapi import APIRouter, Query, Response
from pydantic import Discriminator, Field, Tag

from balise.api.lists import Page
from balise.api.metrics import Metric, MetricAnswer, MetricAnswers, MetricQueries, MetricQuery, Take
from balise.api.moved import MovedAnswer, MovedQuery
from balise.api.spans import Instant, Shift
from balise.server.callers import Turn, Viewer, part
from balise.server.filters.book import FilterBook
from balise.server.hosts.book import HostBook
from balise.server.metrics.moved import MostMoved
from balise.server.metrics.picture import drawn
from balise.server.metrics.questions import Metrics

router = APIRouter()
HostsHere = Annotated[HostBook, part(HostBook)]
FiltersHere = Annotated[FilterBook, part(FilterBook)]
MetricsHere = Annotated[Metrics, part(Metrics)]
MovedHere = Annotated[MostMoved, part(MostMoved)]


@router.get("/metrics", tags=["metrics"])
def list_metrics(
    hosts: HostsHere, metrics: MetricsHere, _who: Viewer, host: Annotated[str | None, Query(max_length=100)] = None
) -> Page[Metric]:
    """All metrics, or those that a host has."""
    number = hosts.known(host).id if host else None
    return Page[Metric](items=metrics.known(number))


PNG: dict[str, dict[str, str]] = {"image/png": {}}
WORDS_OF_TAKES: dict[str, str] = {
    "avg": "mean",
    "min": "lowest",
    "max": "highest",
    "last": "newest",
    "rate": "a second",
}
ASKED = ONE, SEVERAL = "(one question)", "(several questions)"
"""What a body of questions may be."""


def _asked(body: object) -> str:
    return SEVERAL if isinstance(body, dict) and "queries" in body else ONE


OneOrSeveral = Annotated[
    Annotated[MetricQuery, Tag(ONE)] | Annotated[MetricQueries, Tag(SEVERAL)], Discriminator(_asked)
]


@router.post("/metrics/query", tags=["metrics"], response_model=MetricAnswer | MetricAnswers)
async def query_metrics(
    metrics: MetricsHere, turn: Turn, who: Viewer, filters: FiltersHere, body: OneOrSeveral
) -> Response:
    """One question, or up to 50 at once, which are answered in their order."""
    if isinstance(body, MetricQueries):
        queries = body.queries
        return await turn.answered(who, lambda: metrics.ask_all(queries, filters.applied))
    return await turn.answered(who, lambda: metrics.ask(filters.applied(body)))


@router.get("/charts/picture.png", tags=["metrics"], response_class=Response, responses={200: {"content": PNG}})
async def picture_of_chart(
    metrics: MetricsHere,
    turn: Turn,
    who: Viewer,
    filters: FiltersHere,
    metric: Annotated[str, Query(min_length=1, max_length=255)],
    where: Annotated[str | None, Query(max_length=2000)] = None,
    filter: Annotated[str | None, Query(max_length=100)] = None,
    from_: Annotated[Instant, Query(alias="from")] = "-3h",
    to: Instant = "now",
    take: Take = "avg",
    by: Annotated[list[Annotated[str, Field(max_length=255)]], Query(max_length=10)] = ["host"],  # noqa: B006
    shift: Shift | None = None,
    top: Annotated[int | None, Query(ge=1, le=100)] = None,
    width: Annotated[int, Query(ge=300, le=4000)] = 1184,
    height: Annotated[int, Query(ge=160, le=4000)] = 480,
) -> Response:
    """A chart, drawn by the service, with times by the clock of its machine."""
    said = {"metric": metric, "where": where, "filter": filter, "from": from_, "to": to, "take": take, "shift": shift}
    query = filters.applied(MetricQuery.model_validate({**said, "by": by, "points": max(50, width // 4), "top": top}))
    zone = datetime.now().astimezone().tzinfo or UTC

    def draw() -> bytes:
        answer = metrics.ask(query)
        title = f"{answer.metric}, {WORDS_OF_TAKES.get(take, take)}{f', {where}' if where else ''}"
        return drawn(answer, title, width=width, height=height, zone=zone)

    return Response(await turn.asked(who, draw), media_type="image/png")


@router.post("/metrics/moved", tags=["metrics"], response_model=MovedAnswer)
async def moved_metrics(moved: MovedHere, turn: Turn, who: Viewer, filters: FiltersHere, body: MovedQuery) -> Response:
    """What moved most in a stretch of time, beside what was before it and the same hours of the last days."""
    return await turn.answered_at_length(who, lambda: moved.find(filters.applied(body)))
