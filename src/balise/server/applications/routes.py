"""Applications."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path, Query

from balise.api.applications import Application, ApplicationBody, Dependent, Talk
from balise.api.lists import Note, Page
from balise.api.spans import Name
from balise.server.callers import ConsoleHere, Operator, Viewer

router = APIRouter(prefix="/applications", tags=["applications"])
ApplicationName = Annotated[Name, Path()]


@router.get("")
def list_applications(console: ConsoleHere, _who: Viewer) -> Page[Application]:
    return Page[Application](items=console.applications.all())


@router.get("/connections")
def list_connections(console: ConsoleHere, _who: Viewer) -> Page[Talk]:
    """Who was seen talking to whose listening port: edges that could be drawn."""
    return Page[Talk](items=console.applications.talks())


@router.get("/dependents")
def list_dependents(
    console: ConsoleHere,
    _who: Viewer,
    host: Annotated[str, Query(max_length=100)],
    service: Annotated[str | None, Query(max_length=100)] = None,
) -> Page[Dependent]:
    """What depends on a host, or on a service of it."""
    return Page[Dependent](items=console.applications.dependents(host=host, service=service))


@router.get("/{name}")
def read_application(console: ConsoleHere, _who: Viewer, name: ApplicationName) -> Application:
    """An application with the state and a figure of each part."""
    return console.applications.get(name)


@router.get("/{name}/drawn")
def read_drawn(console: ConsoleHere, _who: Viewer, name: ApplicationName) -> ApplicationBody:
    """An application as it was drawn, without what plans add."""
    return console.applications.body(name)


@router.put("/{name}")
def put_application(console: ConsoleHere, who: Operator, name: ApplicationName, body: ApplicationBody) -> Application:
    return console.applications.put(name, body, who.name)


@router.delete("/{name}")
def delete_application(console: ConsoleHere, who: Operator, name: ApplicationName) -> Note:
    console.applications.delete(name, who.name)
    return Note(detail=f"the application {name} is gone; its parts stay where they are")
