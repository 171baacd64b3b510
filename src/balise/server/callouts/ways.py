"""Ways to whoever a callout tells at a moment: which channel, for whom, and why. Times are unix seconds."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.callouts import CalloutBody
from balise.api.persons import PersonBody
from balise.api.rotas import RotaBody
from balise.core.callouts.hours import holds, next_change
from balise.core.callouts.rota import Rota
from balise.store.state import tables


@dataclass(frozen=True)
class Way:
    """By a channel to a person, or to whoever reads it. `quiet_until`: they are not to be told before."""

    channel: str
    person: str | None
    because: str
    quiet_until: float | None = None


@dataclass(frozen=True)
class Nobody:
    """A target that leads to nobody at a moment, and why."""

    why: str


def ways_to(session: Session, target: str, at: float) -> Iterator[Way | Nobody]:
    """The ways to `channel:…`, `person:…` or `rota:…`."""
    kind, _, name = target.partition(":")
    if kind == "channel":
        yield Way(name, None, f"the channel {name}")
    elif kind == "person":
        yield from _to_person(session, name, name, at)
    else:
        row = session.get(tables.Rota, name)
        duty = Rota(RotaBody.model_validate(row.body)).on_duty(at) if row is not None else None
        if duty is None:
            yield Nobody(f"nobody is on duty on the rota {name}")
            return
        instead = f", instead of {duty.instead_of}" if duty.instead_of else ""
        yield from _to_person(session, duty.person, f"{duty.person} is on duty on the rota {name}{instead}", at)


def channels_of(session: Session) -> set[str]:
    """Every channel by which anybody is ever called."""
    found: set[str] = set()
    for row in session.scalars(select(tables.Callout)):
        for target in CalloutBody.model_validate(row.body).told():
            found |= _channels_to(session, target)
    return found


def _channels_to(session: Session, target: str) -> set[str]:
    kind, _, name = target.partition(":")
    if kind == "channel":
        return {name}
    names = [name]
    if kind == "rota":
        row = session.get(tables.Rota, name)
        names = sorted(RotaBody.model_validate(row.body).everybody()) if row is not None else []
    persons = [person for one in names if (person := session.get(tables.Person, one)) is not None]
    return {channel for person in persons for channel in PersonBody.model_validate(person.body).channels}


def _to_person(session: Session, name: str, because: str, at: float) -> Iterator[Way | Nobody]:
    row = session.get(tables.Person, name)
    if row is None:
        yield Nobody(f"there is no person {name} any more")
        return
    body = PersonBody.model_validate(row.body)
    quiet = None
    if body.quiet is not None and holds(body.quiet, at):
        quiet = next_change(body.quiet, at)
        if quiet is None:
            yield Nobody(f"{name} is never to be told: their quiet hours are all hours")
            return
    for channel in body.channels:
        yield Way(channel, name, because, quiet)
