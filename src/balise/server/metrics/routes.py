"""Metrics: which there are, and questions about them."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query, Response

from balise.api.lists import Page
from balise.api.metrics import Metric, MetricAnswer, MetricQuery
from balise.server.callers import ConsoleHere, Viewer, in_turn

router = APIRouter()


@router.get("/metrics", tags=["metrics"])
def list_metrics(
    console: ConsoleHere, _who: Viewer, host: Annotated[str | None, Query(max_length=100)] = None
) -> Page[Metric]:
    """All metrics, or those that a host has."""
    number = console.hosts.known(host).id if host else None
    return Page[Metric](items=console.metrics.known(number))


@router.post("/metrics/query", tags=["metrics"], response_model=MetricAnswer)
async def query_metrics(console: ConsoleHere, who: Viewer, body: MetricQuery) -> Response:
    return await in_turn(console, who, lambda: console.metrics.ask(body))
