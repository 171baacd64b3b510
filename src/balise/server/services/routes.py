"""Services on hosts, and what was read of them."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query

from balise.api.lists import Note, Page
from balise.api.services import (
    Accepted,
    AcceptProposals,
    HostServices,
    Proposal,
    Service,
    ServiceBody,
    ServiceStep,
    ServiceTable,
    Sessions,
)
from balise.server.callers import ConsoleHere, Number, Operator, Viewer

router = APIRouter(tags=["services"])
At = Annotated[str | None, Query(max_length=40, description="the moment to look at; now, when none is given")]


@router.get("/services")
def list_services(
    console: ConsoleHere,
    _who: Viewer,
    host: Annotated[str | None, Query(max_length=100)] = None,
    kit: Annotated[str | None, Query(max_length=60)] = None,
) -> Page[Service]:
    return Page[Service](items=console.services.all(host, kit=kit))


@router.post("/services", status_code=201)
def add_service(console: ConsoleHere, who: Operator, body: ServiceBody) -> Service:
    """Takes up a service. What the console is to read has to answer it first."""
    return console.services.add(body, who)


@router.get("/services/proposals")
def list_proposals(console: ConsoleHere, _who: Viewer) -> Page[Proposal]:
    """Services that agents found and nobody reads yet, with the kit that fits each."""
    return Page[Proposal](items=console.proposals.all())


@router.post("/services/proposals")
def accept_proposals(console: ConsoleHere, who: Operator, body: AcceptProposals) -> Accepted:
    """Takes up many proposals at once."""
    return console.proposals.accept(body, who)


@router.get("/services/{number}")
def read_service(console: ConsoleHere, _who: Viewer, number: Number) -> Service:
    return console.services.get(number)


@router.put("/services/{number}")
def change_service(console: ConsoleHere, who: Operator, number: Number, body: ServiceBody) -> Service:
    """Another reader or place from now on; identity, series and alerts stay."""
    return console.services.change(number, body, who)


@router.delete("/services/{number}")
def delete_service(console: ConsoleHere, who: Operator, number: Number) -> Note:
    console.services.delete(number, who.name)
    return Note(detail="the service is read no more; its series stay until they are forgotten")


@router.get("/services/{number}/steps")
def read_steps(console: ConsoleHere, _who: Viewer, number: Number) -> Page[ServiceStep]:
    """What happened to a service, newest first: its states, versions, kits and readers."""
    return Page[ServiceStep](items=console.services.steps(number))


@router.get("/services/{number}/sessions")
def read_sessions(console: ConsoleHere, _who: Viewer, number: Number, at: At = None) -> Sessions:
    """The sessions of a service now, or at an earlier moment, with who blocks whom."""
    return console.service_reads.sessions(number, at)


@router.get("/services/{number}/tables")
def read_tables(console: ConsoleHere, _who: Viewer, number: Number, at: At = None) -> Page[ServiceTable]:
    """The tables that a service's kit keeps: the dearest statements, unused indexes and the like."""
    return Page[ServiceTable](items=console.service_reads.tables(number, at))


@router.get("/hosts/{name}/services")
def read_host_services(console: ConsoleHere, _who: Viewer, name: str) -> HostServices:
    """The services of a host, and what its agent found listening that nobody reads yet."""
    return console.proposals.of_host(name)
