"""Hosts."""

from __future__ import annotations

import time
from typing import Annotated

from fastapi import APIRouter, Query, Response

from balise.api.hosts import Evidence, Host, HostChange, HostsChange, HostsChanged, Stretch
from balise.api.lists import Note, Page
from balise.api.metrics import FilterName, FilterText
from balise.api.spans import Instant
from balise.server.asking import span_of
from balise.server.callers import Administrator, Operator, Viewer, part
from balise.server.filters.book import FilterBook
from balise.server.hosts.book import HostBook
from balise.server.packing import packed

router = APIRouter(tags=["hosts"])
FiltersHere = Annotated[FilterBook, part(FilterBook)]
HostsHere = Annotated[HostBook, part(HostBook)]
From = Annotated[Instant, Query(alias="from")]


@router.get("/hosts", response_model=Page[Host])
async def list_hosts(
    hosts: HostsHere,
    filters: FiltersHere,
    _who: Viewer,
    where: FilterText | None = None,
    filter: FilterName | None = None,
    sort: Annotated[str, Query(max_length=40)] = "name",
    limit: Annotated[int, Query(ge=1, le=10_000)] = 1000,
    cursor: Annotated[str | None, Query(max_length=20)] = None,
    retired: Annotated[bool, Query(description="those that have left, instead of those that are here")] = False,
    brief: Annotated[bool, Query(description="without what agents report (agent) and machines carry")] = False,
) -> Response:
    return await packed(
        lambda: hosts.page(filters.text(where, filter), sort, limit, cursor, retired=retired, brief=brief)
    )


@router.post("/hosts/change")
def change_hosts(hosts: HostsHere, filters: FiltersHere, who: Operator, body: HostsChange) -> HostsChanged:
    """One change of many hosts, all or none: labels set and removed, groups joined and left."""
    return HostsChanged(changed=hosts.change_many(filters.put_in(body), who.name))


@router.get("/hosts/{name}", response_model=Host)
async def read_host(hosts: HostsHere, _who: Viewer, name: str) -> Response:
    return await packed(lambda: hosts.get(name))


@router.patch("/hosts/{name}")
def change_host(hosts: HostsHere, who: Operator, name: str, body: HostChange) -> Host:
    return hosts.change(name, body, who.name)


@router.post("/hosts/{name}/retire")
def retire_host(hosts: HostsHere, who: Administrator, name: str) -> Host:
    """The host leaves: nothing is taken of it any more, its history stays until it is forgotten."""
    return hosts.retire(name, who.name)


@router.delete("/hosts/{name}", status_code=202)
def erase_host(hosts: HostsHere, who: Administrator, name: str) -> Note:
    """The host goes with all its history; that cannot be undone."""
    hosts.erase(name, who.name)
    return Note(detail=f"{name} is gone; its history is being erased")


@router.get("/hosts/{name}/states")
def read_states(hosts: HostsHere, _who: Viewer, name: str, from_: From = "-24h", to: Instant = "now") -> Page[Stretch]:
    """How the host's state went: each state from a moment on, until the next."""
    return Page[Stretch](items=hosts.states(name, *span_of(from_, to, time.time())))


@router.get("/hosts/{name}/evidence")
def read_evidence(hosts: HostsHere, _who: Viewer, name: str, from_: From = "-15m", to: Instant = "now") -> Evidence:
    """Busiest processes and sessions over the span."""
    return hosts.evidence(name, *span_of(from_, to, time.time()))
