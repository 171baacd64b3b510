"""People who can be told, and rotas."""

from __future__ import annotations

import time
from typing import Annotated

from fastapi import APIRouter, Query

from balise.api.lists import Note, Page
from balise.api.persons import Person, PersonBody
from balise.api.rotas import DutyStretch, OnDuty, RotaAnswer, RotaBody
from balise.api.spans import Instant, Name, instant
from balise.server.asking import span_of
from balise.server.callers import Administrator, CalendarReader, Operator, Viewer, part
from balise.server.callouts.calendar import CalendarFile
from balise.server.callouts.persons import PersonBook
from balise.server.callouts.rotas import RotaBook

router = APIRouter(tags=["notification"])
PersonsHere = Annotated[PersonBook, part(PersonBook)]
RotasHere = Annotated[RotaBook, part(RotaBook)]


@router.get("/people")
def list_people(persons: PersonsHere, _who: Viewer) -> Page[Person]:
    return Page[Person](items=persons.all())


@router.get("/people/{name}")
def read_person(persons: PersonsHere, _who: Viewer, name: str) -> Person:
    return persons.get(name)


@router.put("/people/{name}")
def put_person(persons: PersonsHere, who: Administrator, name: Name, body: PersonBody) -> Person:
    """Somebody who can be told, by channels of their own."""
    return persons.put(name, body, who.name)


@router.delete("/people/{name}")
def delete_person(persons: PersonsHere, who: Administrator, name: str) -> Note:
    persons.delete(name, who.name)
    return Note(detail=f"person {name} deleted")


@router.get("/rotas")
def list_rotas(rotas: RotasHere, _who: Viewer) -> Page[RotaAnswer]:
    return Page[RotaAnswer](items=rotas.all())


@router.get("/rotas/{name}")
def read_rota(rotas: RotasHere, _who: Viewer, name: str) -> RotaAnswer:
    return rotas.get(name)


@router.get("/rotas/{name}/on-duty")
def on_duty(rotas: RotasHere, _who: Viewer, name: str, at: Instant = "now") -> OnDuty:
    return rotas.on_duty(name, instant(at, time.time()))


@router.get("/rotas/{name}/stretches")
def rota_stretches(
    rotas: RotasHere,
    _who: Viewer,
    name: str,
    from_: Annotated[Instant, Query(alias="from")] = "now",
    to: Instant = "+28d",
) -> Page[DutyStretch]:
    """Who has which part of a span, one after the other."""
    start, end = span_of(from_, to, time.time())
    return Page[DutyStretch](items=rotas.stretches(name, start, end))


@router.get("/rotas/{name}/calendar.ics", response_class=CalendarFile)
def rota_calendar(rotas: RotasHere, _who: CalendarReader, name: str) -> CalendarFile:
    """The last year and the next half year as iCalendar (RFC 5545), for viewers or with a token of the
    role calendar."""
    return CalendarFile(rotas.calendar(name))


@router.put("/rotas/{name}")
def put_rota(rotas: RotasHere, who: Operator, name: Name, body: RotaBody) -> RotaAnswer:
    """People in turns, and who stands in for whom."""
    return rotas.put(name, body, who.name)


@router.delete("/rotas/{name}")
def delete_rota(rotas: RotasHere, who: Administrator, name: str) -> Note:
    rotas.delete(name, who.name)
    return Note(detail=f"rota {name} deleted")
