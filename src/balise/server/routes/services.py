"""Services on hosts."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query

from balise.api.lists import Note, Page
from balise.api.services import HostServices, Service, ServiceBody
from balise.server.routes.common import ConsoleHere, Operator, Viewer

router = APIRouter(tags=["services"])


@router.get("/services")
def list_services(
    console: ConsoleHere, _who: Viewer, host: Annotated[str | None, Query(max_length=100)] = None
) -> Page[Service]:
    return Page[Service](items=console.services.all(host))


@router.post("/services", status_code=201)
def add_service(console: ConsoleHere, who: Operator, body: ServiceBody) -> Service:
    """Takes up a service. What the console is to read has to answer it first."""
    return console.services.add(body, who.name)


@router.get("/services/{number}")
def read_service(console: ConsoleHere, _who: Viewer, number: int) -> Service:
    return console.services.get(number)


@router.put("/services/{number}")
def change_service(console: ConsoleHere, who: Operator, number: int, body: ServiceBody) -> Service:
    """Another reader or place from now on; identity, series and alerts stay."""
    return console.services.change(number, body, who.name)


@router.delete("/services/{number}")
def delete_service(console: ConsoleHere, who: Operator, number: int) -> Note:
    console.services.delete(number, who.name)
    return Note(detail="the service is read no more; its series stay until they are forgotten")


@router.get("/hosts/{name}/services")
def read_host_services(console: ConsoleHere, _who: Viewer, name: str) -> HostServices:
    """The services of a host, and what its agent found listening that nobody reads yet."""
    return console.services.of_host(name)
