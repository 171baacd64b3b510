"""Days of events, set aside and brought back."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path

from balise.api.event_days import EventDay
from balise.api.lists import Page
from balise.server.callers import Administrator, Viewer, part
from balise.server.events.days import DayBook

router = APIRouter(prefix="/event-days", tags=["events"])
DaysHere = Annotated[DayBook, part(DayBook)]
DayName = Annotated[str, Path(max_length=10)]


@router.get("")
def list_days(days: DaysHere, _who: Viewer) -> Page[EventDay]:
    """The days of which there are events, here or set aside, the newest first."""
    return Page[EventDay](items=days.all())


@router.post("/{day}/set-aside")
def set_day_aside(days: DaysHere, who: Administrator, day: DayName) -> EventDay:
    """Copies a day that is over into the folder for that, and reads the copy back; the day itself stays."""
    return days.set_aside(day, who.name)


@router.post("/{day}/bring-back")
def bring_day_back(days: DaysHere, who: Administrator, day: DayName) -> EventDay:
    """Puts a copy among the days again: it is searched like all others, and kept until it is let go."""
    return days.bring_back(day, who.name)


@router.post("/{day}/let-go")
def let_day_go(days: DaysHere, who: Administrator, day: DayName) -> EventDay:
    """Removes a day from here of which there is a copy that reads back."""
    return days.let_go(day, who.name)
