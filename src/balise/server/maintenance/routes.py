"""Maintenance windows, and their calendar."""

from __future__ import annotations

import time
from typing import Annotated

from fastapi import APIRouter

from balise.api.lists import Note, Page
from balise.api.maintenance import MaintenanceBody, Window
from balise.api.spans import Name
from balise.server.callers import CalendarReader, Operator, Viewer, part
from balise.server.callouts.calendar import CalendarFile, Entry, calendar
from balise.server.filters.book import FilterBook
from balise.server.maintenance.book import MaintenanceBook

router = APIRouter(tags=["maintenance"])
FiltersHere = Annotated[FilterBook, part(FilterBook)]
MaintenanceHere = Annotated[MaintenanceBook, part(MaintenanceBook)]
BEHIND, AHEAD = 31 * 86_400.0, 183 * 86_400.0
"""Seconds of windows that their calendar has."""


@router.get("/maintenance")
def list_maintenance(maintenance: MaintenanceHere, _who: Viewer) -> Page[Window]:
    """Windows that go on first, then by when they come."""
    return Page[Window](items=maintenance.all())


@router.get("/maintenance.ics", response_class=CalendarFile)
def maintenance_calendar(maintenance: MaintenanceHere, _who: CalendarReader) -> CalendarFile:
    """The windows of the last month and the next half year as iCalendar (RFC 5545), for viewers or with a token of
    the role calendar."""
    now = time.time()
    entries = [
        Entry(f"{name}-{one.start:.0f}", f"Maintenance: {body.about}", one.start, one.end, _chosen(body))
        for name, body, times in maintenance.times_of(now - BEHIND, now + AHEAD)
        for one in times
    ]
    return CalendarFile(calendar("Maintenance", entries, now))


@router.get("/maintenance/{name}")
def read_maintenance(maintenance: MaintenanceHere, _who: Viewer, name: str) -> Window:
    return maintenance.get(name)


@router.put("/maintenance/{name}")
def put_maintenance(maintenance: MaintenanceHere, who: Operator, name: Name, body: MaintenanceBody) -> Window:
    """What goes wrong in a window is kept and not told; what is still wrong at its end is told then."""
    return maintenance.put(name, body, who.name)


@router.delete("/maintenance/{name}")
def delete_maintenance(maintenance: MaintenanceHere, who: Operator, name: str) -> Note:
    maintenance.delete(name, who.name)
    return Note(detail=f"maintenance window {name} deleted")


@router.post("/maintenance/{name}/end")
def end_maintenance(maintenance: MaintenanceHere, who: Operator, name: str) -> Window:
    """The time that goes on is over now; a window that repeats comes again."""
    return maintenance.end(name, who.name)


def _chosen(body: MaintenanceBody) -> str:
    named = [
        f"{what}: {', '.join(names)}"
        for what, names in (("hosts", body.hosts), ("groups", body.groups), ("applications", body.applications))
        if names
    ]
    return "; ".join([*named, *([f"where {body.where}"] if body.where else [])])
