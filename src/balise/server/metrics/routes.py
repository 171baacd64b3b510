"""Metrics: which there are, and questions about them."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query, Response

from balise.api.lists import Page
from balise.api.metrics import Metric, MetricAnswer, MetricQuery
from balise.server.callers import Turn, Viewer, part
from balise.server.filters.book import FilterBook
from balise.server.hosts.book import HostBook
from balise.server.metrics.questions import Metrics

router = APIRouter()
HostsHere = Annotated[HostBook, part(HostBook)]
FiltersHere = Annotated[FilterBook, part(FilterBook)]
MetricsHere = Annotated[Metrics, part(Metrics)]


@router.get("/metrics", tags=["metrics"])
def list_metrics(
    hosts: HostsHere, metrics: MetricsHere, _who: Viewer, host: Annotated[str | None, Query(max_length=100)] = None
) -> Page[Metric]:
    """All metrics, or those that a host has."""
    number = hosts.known(host).id if host else None
    return Page[Metric](items=metrics.known(number))


@router.post("/metrics/query", tags=["metrics"], response_model=MetricAnswer)
async def query_metrics(
    metrics: MetricsHere, turn: Turn, who: Viewer, filters: FiltersHere, body: MetricQuery
) -> Response:
    return await turn.answered(who, lambda: metrics.ask(filters.applied(body)))
