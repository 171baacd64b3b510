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
from balise.server.callers import Number, Operator, Viewer, part
from balise.server.services.book import ServiceBook
from balise.server.services.proposals import Proposals
from balise.server.services.reads import ServiceReads

router = APIRouter(tags=["services"])
ProposalsHere = Annotated[Proposals, part(Proposals)]
ServiceReadsHere = Annotated[ServiceReads, part(ServiceReads)]
ServicesHere = Annotated[ServiceBook, part(ServiceBook)]
At = Annotated[str | None, Query(max_length=40, description="the moment to look at; now, when none is given")]


@router.get("/services")
def list_services(
    services: ServicesHere,
    _who: Viewer,
    host: Annotated[str | None, Query(max_length=100)] = None,
    kit: Annotated[str | None, Query(max_length=60)] = None,
) -> Page[Service]:
    return Page[Service](items=services.all(host, kit=kit))


@router.post("/services", status_code=201)
def add_service(services: ServicesHere, who: Operator, body: ServiceBody) -> Service:
    """Takes up a service. What the console is to read has to answer it first."""
    return services.add(body, who)


@router.get("/services/proposals")
def list_proposals(proposals: ProposalsHere, _who: Viewer) -> Page[Proposal]:
    """Services that agents found and nobody reads yet, with the kit that fits each."""
    return Page[Proposal](items=proposals.all())


@router.post("/services/proposals")
def accept_proposals(proposals: ProposalsHere, who: Operator, body: AcceptProposals) -> Accepted:
    """Takes up many proposals at once."""
    return proposals.accept(body, who)


@router.get("/services/{number}")
def read_service(services: ServicesHere, _who: Viewer, number: Number) -> Service:
    return services.get(number)


@router.put("/services/{number}")
def change_service(services: ServicesHere, who: Operator, number: Number, body: ServiceBody) -> Service:
    """Another reader or place from now on; identity, series and alerts stay."""
    return services.change(number, body, who)


@router.delete("/services/{number}")
def delete_service(services: ServicesHere, who: Operator, number: Number) -> Note:
    services.delete(number, who.name)
    return Note(detail="the service is read no more; its series stay until they are forgotten")


@router.get("/services/{number}/steps")
def read_steps(services: ServicesHere, _who: Viewer, number: Number) -> Page[ServiceStep]:
    """What happened to a service, newest first: its states, versions, kits and readers."""
    return Page[ServiceStep](items=services.steps(number))


@router.get("/services/{number}/sessions")
def read_sessions(service_reads: ServiceReadsHere, _who: Viewer, number: Number, at: At = None) -> Sessions:
    """The sessions of a service now, or at an earlier moment, with who blocks whom."""
    return service_reads.sessions(number, at)


@router.get("/services/{number}/tables")
def read_tables(service_reads: ServiceReadsHere, _who: Viewer, number: Number, at: At = None) -> Page[ServiceTable]:
    """The tables that a service's kit keeps: the dearest statements, unused indexes and the like."""
    return Page[ServiceTable](items=service_reads.tables(number, at))


@router.get("/hosts/{name}/services")
def read_host_services(proposals: ProposalsHere, _who: Viewer, name: str) -> HostServices:
    """The services of a host, and what its agent found listening that nobody reads yet."""
    return proposals.of_host(name)
