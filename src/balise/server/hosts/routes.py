"""Hosts."""

from __future__ import annotations

import time
from typing import Annotated

from fastapi import APIRouter, Query

from balise.api.hosts import Evidence, Host, HostChange, HostsChange, HostsChanged, Stretch
from balise.api.lists import Note, Page
from balise.api.metrics import FilterText
from balise.api.remote import Remote, RemoteBody
from balise.api.spans import Instant
from balise.server.asking import span_of
from balise.server.callers import Administrator, ConsoleHere, Operator, Viewer

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
    retired: Annotated[bool, Query(description="those that have left, instead of those that are here")] = False,
) -> Page[Host]:
    return console.hosts.page(where, sort, limit, cursor, retired=retired)


@router.post("/hosts/change")
def change_hosts(console: ConsoleHere, who: Operator, body: HostsChange) -> HostsChanged:
    """One change of many hosts, all or none: labels set and removed, groups joined and left."""
    return HostsChanged(changed=console.hosts.change_many(body, who.name))


@router.get("/hosts/{name}")
def read_host(console: ConsoleHere, _who: Viewer, name: str) -> Host:
    return console.hosts.get(name)


@router.patch("/hosts/{name}")
def change_host(console: ConsoleHere, who: Operator, name: str, body: HostChange) -> Host:
    return console.hosts.change(name, body, who.name)


@router.post("/hosts/{name}/retire")
def retire_host(console: ConsoleHere, who: Administrator, name: str) -> Host:
    """The host leaves: nothing is taken of it any more, its history stays until it is forgotten."""
    host = console.hosts.retire(name, who.name)
    console.access.forget_remembered()
    return host


@router.delete("/hosts/{name}", status_code=202)
def erase_host(console: ConsoleHere, who: Administrator, name: str) -> Note:
    """The host goes with all its history; that cannot be undone."""
    console.hosts.erase(name, who.name)
    console.access.forget_remembered()
    return Note(detail=f"{name} is gone; its history is being erased")


@router.get("/hosts/{name}/remote")
def read_remote(console: ConsoleHere, _who: Viewer, name: str) -> Remote:
    """How the host is reached over the network."""
    return console.remote.get(name)


@router.put("/hosts/{name}/remote")
def collect_remotely(console: ConsoleHere, who: Operator, name: str, body: RemoteBody) -> Remote:
    """Collects the host over the network from now on. What collected it before may not deliver any more."""
    console.remote.put(name, body, who)
    console.access.forget_remembered()
    console.remote_work.refresh()
    return console.remote.get(name)


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
