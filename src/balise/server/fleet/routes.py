"""The fleet as a table and as a tree."""

from __future__ import annotations

import time
from typing import Annotated

from fastapi import APIRouter, Depends, Query, Response

from balise.api.processes import (
    ProcessOf,
    ProcessOrder,
    ProcessSpans,
    RequestOf,
    RequestSpans,
    SessionOf,
    SessionSpans,
)
from balise.api.spans import Instant
from balise.api.table import HostTable, HostTableQuery
from balise.api.tree import Tree
from balise.server.asking import span_of
from balise.server.callers import Turn, Viewer, part
from balise.server.filters.book import FilterBook
from balise.server.fleet.processes import ProcessHistory
from balise.server.fleet.requests import RequestHistory
from balise.server.fleet.sessions import SessionHistory
from balise.server.fleet.table import FleetTable
from balise.server.fleet.tree import FleetTree

router = APIRouter()
FiltersHere = Annotated[FilterBook, part(FilterBook)]
TableHere = Annotated[FleetTable, part(FleetTable)]
ProcessesHere = Annotated[ProcessHistory, part(ProcessHistory)]
RequestsHere = Annotated[RequestHistory, part(RequestHistory)]
SessionsHere = Annotated[SessionHistory, part(SessionHistory)]


async def _over(from_: Annotated[Instant, Query(alias="from")] = "-1h", to: Instant = "now") -> tuple[float, float]:
    return span_of(from_, to, time.time())


Over = Annotated[tuple[float, float], Depends(_over)]
"""The beginning and end of a span, unix seconds."""
TreeHere = Annotated[FleetTree, part(FleetTree)]


@router.post("/hosts/table", tags=["hosts"], response_model=HostTable)
async def table_of_hosts(
    table: TableHere, turn: Turn, who: Viewer, filters: FiltersHere, body: HostTableQuery
) -> Response:
    """The hosts with any metric, fact, label or count as columns, sorted and grouped, page by page in one order."""
    return await turn.answered(who, lambda: table.page(filters.applied(body)))


@router.get("/tree", tags=["hosts"])
def read_tree(
    tree: TreeHere,
    _who: Viewer,
    by: Annotated[str, Query(max_length=110, description="site, group, application or label.NAME")] = "site",
    below: Annotated[str | None, Query(max_length=1000, description="a node, as an answer gave it")] = None,
) -> Tree:
    """One level of the fleet, the worst first, with the reason in words and the layers that are concerned."""
    return tree.level(by, below)


@router.get("/hosts/{name}/processes", tags=["hosts"], response_model=ProcessSpans)
async def processes_over(
    history: ProcessesHere,
    turn: Turn,
    who: Viewer,
    name: str,
    over: Over,
    by: ProcessOrder = "cpu",
    of: ProcessOf = "process",
    limit: Annotated[int, Query(ge=1, le=200)] = 20,
) -> Response:
    """What processes, programs or users took of a host over a span, the busiest first."""
    return await turn.answered(who, lambda: history.over(name, *over, by=by, of=of, limit=limit))


@router.get("/hosts/{name}/sessions", tags=["hosts"], response_model=SessionSpans)
async def sessions_over(
    history: SessionsHere,
    turn: Turn,
    who: Viewer,
    name: str,
    over: Over,
    of: SessionOf = "session",
    limit: Annotated[int, Query(ge=1, le=200)] = 50,
) -> Response:
    """What sessions of a host's services did over a span, or their users, clients, statements: who held others first,
    then the longest at work."""
    return await turn.answered(who, lambda: history.over(name, *over, of=of, limit=limit))


@router.get("/hosts/{name}/requests", tags=["hosts"], response_model=RequestSpans)
async def requests_over(
    history: RequestsHere,
    turn: Turn,
    who: Viewer,
    name: str,
    over: Over,
    of: RequestOf = "path",
    limit: Annotated[int, Query(ge=1, le=200)] = 50,
) -> Response:
    """Web requests of a host over a span by path, client, status or user agent, as its access logs tell them."""
    return await turn.answered(who, lambda: history.over(name, *over, of=of, limit=limit))
