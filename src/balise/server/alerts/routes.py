"""Alerts: looking at them and taking them on."""

from __future__ import annotations

import time
from typing import Annotated, Any

from fastapi import APIRouter, Query
from sqlalchemy import and_, or_, select
from sqlalchemy.orm import Session

from balise.api.alerts import Acknowledge, Alert, AlertDetail
from balise.api.lists import Page
from balise.api.metrics import FilterText
from balise.api.spans import Instant
from balise.core import filters
from balise.server.alerts.book import alert_facts
from balise.server.asking import read_filter, span_of
from balise.server.callers import ConsoleHere, Number, Operator, Viewer
from balise.store.state import tables

router = APIRouter()


@router.get("/alerts", tags=["alerts"])
def list_alerts(
    console: ConsoleHere,
    _who: Viewer,
    where: FilterText | None = None,
    state: Annotated[str | None, Query(pattern="^(open|recovered)$")] = None,
    from_: Annotated[Instant, Query(alias="from")] = "-7d",
    to: Instant = "now",
    limit: Annotated[int, Query(ge=1, le=1000)] = 200,
    cursor: Annotated[str | None, Query(pattern=r"^\d{1,18}$")] = None,
) -> Page[Alert]:
    """Open ones and those that were open at some time in the span, the newest first."""
    start, end = span_of(from_, to, time.time())
    node = read_filter(where, "where")
    table = tables.Alert
    when = and_(table.opened_at < end, or_(table.recovered_at.is_(None), table.recovered_at >= start))
    query = select(table).where(when).order_by(table.id.desc())
    if state:
        query = query.where(table.recovered_at.is_(None) if state == "open" else table.recovered_at.is_not(None))
    if cursor:
        query = query.where(table.id < int(cursor))

    def read(session: Session) -> Page[Alert]:
        items: list[Alert] = []
        for row in session.scalars(query.limit(20_000)):
            if node is None or filters.matches(node, _facts_of(row)):
                if len(items) == limit:
                    return Page[Alert](items=items, next=str(items[-1].id))
                items.append(console.book.current(row))
        return Page[Alert](items=items)

    return console.state.read(read)


def _facts_of(row: tables.Alert) -> Any:
    return alert_facts(row).get


@router.get("/alerts/{number}", tags=["alerts"])
def read_alert(console: ConsoleHere, _who: Viewer, number: Number) -> AlertDetail:
    return console.state.read(lambda s: console.book.detail(s, number))


@router.post("/alerts/{number}/acknowledge", tags=["alerts"])
def acknowledge(console: ConsoleHere, who: Operator, number: Number, body: Acknowledge) -> Alert:
    return console.book.acknowledge(number, who.name, body.note)
