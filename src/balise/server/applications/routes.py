"""Applications."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path, Query

from balise.api.applications import Application, ApplicationBody, Dependent, Talk
from balise.api.lists import Note, Page
from balise.api.spans import Name
from balise.server.applications.book import ApplicationBook
from balise.server.applications.talks import Talks
from balise.server.callers import Operator, Viewer, part

router = APIRouter(prefix="/applications", tags=["applications"])
ApplicationsHere = Annotated[ApplicationBook, part(ApplicationBook)]
TalksHere = Annotated[Talks, part(Talks)]
ApplicationName = Annotated[Name, Path()]


@router.get("")
def list_applications(applications: ApplicationsHere, _who: Viewer) -> Page[Application]:
    return Page[Application](items=applications.all())


@router.get("/connections")
def list_connections(talks: TalksHere, _who: Viewer) -> Page[Talk]:
    """Who was seen talking to whose listening port: edges that could be drawn."""
    return Page[Talk](items=talks.all())


@router.get("/dependents")
def list_dependents(
    applications: ApplicationsHere,
    _who: Viewer,
    host: Annotated[str, Query(max_length=100)],
    service: Annotated[str | None, Query(max_length=100)] = None,
) -> Page[Dependent]:
    """What depends on a host, or on a service of it."""
    return Page[Dependent](items=applications.dependents(host=host, service=service))


@router.get("/{name}")
def read_application(applications: ApplicationsHere, _who: Viewer, name: ApplicationName) -> Application:
    """An application with the state and a figure of each part."""
    return applications.get(name)


@router.get("/{name}/drawn")
def read_drawn(applications: ApplicationsHere, _who: Viewer, name: ApplicationName) -> ApplicationBody:
    """An application as it was drawn, without what plans add."""
    return applications.body(name)


@router.put("/{name}")
def put_application(
    applications: ApplicationsHere, who: Operator, name: ApplicationName, body: ApplicationBody
) -> Application:
    return applications.put(name, body, who.name)


@router.delete("/{name}")
def delete_application(applications: ApplicationsHere, who: Operator, name: ApplicationName) -> Note:
    applications.delete(name, who.name)
    return Note(detail=f"the application {name} is gone; its parts stay where they are")
