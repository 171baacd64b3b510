"""Alerts: looking at them and taking them on."""

from __future__ import annotations

import time
from typing import Annotated

from fastapi import APIRouter, Query, Response

from balise.api.alerts import Acknowledge, Alert, AlertDetail
from balise.api.lists import Page
from balise.api.metrics import FilterName, FilterText
from balise.api.spans import Instant
from balise.server.alerts.book import AlertBook
from balise.server.alerts.search import AlertSearch
from balise.server.asking import span_of
from balise.server.callers import Number, Operator, Viewer, part
from balise.server.filters.book import FilterBook
from balise.server.packing import packed

router = APIRouter(prefix="/alerts", tags=["alerts"])
FiltersHere = Annotated[FilterBook, part(FilterBook)]
AlertsHere = Annotated[AlertBook, part(AlertBook)]
SearchHere = Annotated[AlertSearch, part(AlertSearch)]


@router.get("", response_model=Page[Alert])
async def list_alerts(
    search: SearchHere,
    filters: FiltersHere,
    _who: Viewer,
    where: FilterText | None = None,
    filter: FilterName | None = None,
    state: Annotated[str | None, Query(pattern="^(open|recovered)$")] = None,
    from_: Annotated[Instant, Query(alias="from")] = "-7d",
    to: Instant = "now",
    limit: Annotated[int, Query(ge=1, le=1000)] = 200,
    cursor: Annotated[str | None, Query(pattern=r"^\d{1,18}$")] = None,
) -> Response:
    """Open ones and those that were open at some time in the span, the newest first."""
    start, end = span_of(from_, to, time.time())
    return await packed(
        lambda: search.page(start, end, where=filters.text(where, filter), state=state, limit=limit, cursor=cursor)
    )


@router.get("/{number}", response_model=AlertDetail)
async def read_alert(search: SearchHere, _who: Viewer, number: Number) -> Response:
    return await packed(lambda: search.get(number))


@router.post("/{number}/acknowledge")
def acknowledge(alerts: AlertsHere, who: Operator, number: Number, body: Acknowledge) -> Alert:
    return alerts.acknowledge(number, who.name, body.note)
