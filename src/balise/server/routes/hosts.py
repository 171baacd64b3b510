"""Hosts and groups."""

from __future__ import annotations

import time
from typing import Annotated

from fastapi import APIRouter, Query

from balise.api.hosts import Evidence, Group, Host, HostChange, Stretch
from balise.api.lists import Page
from balise.api.metrics import FilterText
from balise.api.spans import Instant
from balise.server.metrics import span_of
from balise.server.routes.common import ConsoleHere, Operator, Viewer

router = APIRouter(tags=["hosts"])
From = Annotated[Instant, Query(alias="from")]


@router.get("/hosts")
def list_hosts(
    console: ConsoleHere,
    _who: Viewer,
    where: FilterText | None = None,
    sort: Annotated[str, Query(max_length=40)] = "name",
    limit: Annotated[int, Query(ge=1, le=10_000)] = 1000,
    cursor: Annotated[str | None, Query(max_length=20)] = None,
) -> Page[Host]:
    return console.hosts.page(where, sort, limit, cursor)


@router.get("/hosts/{name}")
def read_host(console: ConsoleHere, _who: Viewer, name: str) -> Host:
    return console.hosts.get(name)


@router.patch("/hosts/{name}")
def change_host(console: ConsoleHere, who: Operator, name: str, body: HostChange) -> Host:
    return console.hosts.change(name, body, who.name)


@router.get("/hosts/{name}/states")
def read_states(
    console: ConsoleHere, _who: Viewer, name: str, from_: From = "-24h", to: Instant = "now"
) -> Page[Stretch]:
    """How the host's state went: each state from a moment on, until the next."""
    return Page[Stretch](items=console.hosts.states(name, *span_of(from_, to, time.time())))


@router.get("/hosts/{name}/evidence")
def read_evidence(console: ConsoleHere, _who: Viewer, name: str, from_: From = "-15m", to: Instant = "now") -> Evidence:
    """Busiest processes and sessions over the span."""
    return console.hosts.evidence(name, *span_of(from_, to, time.time()))


@router.get("/groups")
def list_groups(console: ConsoleHere, _who: Viewer, from_: From = "-24h", to: Instant = "now") -> Page[Group]:
    """Every group with its hosts' states now, and its own over the span."""
    return Page[Group](items=console.hosts.groups(*span_of(from_, to, time.time())))
