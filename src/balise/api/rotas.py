"""Rotas: who is on duty, in turns."""

from __future__ import annotations

from datetime import date
from typing import Annotated

from pydantic import BaseModel, Field, model_validator

from balise.api.hours import TimeOfDay, Zone
from balise.api.spans import Duration, Instant, Name, instant, seconds
from balise.api.strict import Strict

HOUR, LONGEST_TURN = 3600.0, 92 * 86_400.0


class Override(Strict):
    """Somebody else has a time of the rota, whoever's turn it is."""

    person: Name
    from_: Annotated[Instant, Field(alias="from")]
    to: Instant

    @model_validator(mode="after")
    def _goes_forward(self) -> Override:
        if any(instant(one, 0.0) != instant(one, 1.0) for one in (self.from_, self.to)):
            raise ValueError("from, to: are times such as 2026-03-06T18:00:00+01:00")
        if instant(self.to, 0.0) <= instant(self.from_, 0.0):
            raise ValueError("to: is not after from")
        return self


class RotaBody(Strict):
    """People have one turn after another. A turn changes at a local time, whatever the clocks do; of two overrides of
    one time the later in the list holds."""

    people: Annotated[list[Name], Field(min_length=1, max_length=200)]
    turn: Duration = "1w"
    begins: date
    at: TimeOfDay = "09:00"
    zone: Zone
    overrides: Annotated[list[Override], Field(max_length=500)] = []

    @model_validator(mode="after")
    def _has_whole_turns(self) -> RotaBody:
        length = seconds(self.turn)
        if length % HOUR or not HOUR <= length <= LONGEST_TURN:
            raise ValueError("turn: is whole hours, days or weeks, from 1h to 13w")
        return self

    def everybody(self) -> set[str]:
        """All who ever have a time of it."""
        return {*self.people, *(override.person for override in self.overrides)}


class RotaAnswer(RotaBody):
    """A rota, and who is on duty now."""

    name: str
    on_duty: str | None
    until: str | None


class OnDuty(BaseModel):
    """Who is on duty at a moment, until when, and whose turn it would be, if that is another."""

    person: str | None
    until: str | None
    instead_of: str | None = None


class DutyStretch(BaseModel):
    """Who has a time of the rota."""

    person: str
    start: float
    end: float
    instead_of: str | None
