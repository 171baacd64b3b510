"""Callouts: who is told of what, by which way, and what if nobody answers."""

from __future__ import annotations

import re
from typing import Annotated, Literal

from pydantic import AfterValidator, BaseModel, Field, model_validator

from balise.api.hours import Hours
from balise.api.metrics import FilterText, NamedFilter
from balise.api.problems import DocumentProblem
from balise.api.spans import Duration, Instant, Name, seconds
from balise.api.strict import Strict

NAME = r"[A-Za-z0-9][A-Za-z0-9 ._:-]{0,99}"
MOST_STEPS = 10


def _target(text: str) -> str:
    kind, colon, name = text.partition(":")
    if not colon or kind not in ("rota", "person", "channel") or not re.fullmatch(NAME, name):
        raise ValueError(f"{text[:60]!r} is nobody to tell: write rota:NAME, person:NAME or channel:NAME")
    return text


Target = Annotated[str, Field(max_length=110), AfterValidator(_target)]


class Step(Strict):
    """Whom a callout tells, and how long after it began, unless somebody has taken the incident."""

    after: Duration = "0s"
    tell: Annotated[list[Target], Field(min_length=1, max_length=20)]


class CalloutBody(Strict):
    """Who is told of which incidents. `tell` alone, with names of channels, is one step at once."""

    when: FilterText = 'severity ge "warning"'
    filter: NamedFilter = None
    hours: Hours | None = None
    tell: Annotated[list[Name], Field(max_length=20)] = []
    steps: Annotated[list[Step], Field(max_length=MOST_STEPS)] = []
    again: Duration | None = Field(default=None, description="from the first step on, while nobody has it")
    gather: Duration = Field(default="10s", description="what belongs together is told together")
    digest: Duration | None = Field(default=None, description="warnings wait this long, and are told together")

    @model_validator(mode="after")
    def _goes_together(self) -> CalloutBody:
        if bool(self.tell) == bool(self.steps):
            raise ValueError("tell, steps: say one of them")
        after = [seconds(step.after) for step in self.steps]
        if after != sorted(after):
            raise ValueError("steps: each is after the one before")
        if self.again is not None and not 60 <= seconds(self.again) <= 7 * 86_400:
            raise ValueError("again: from 1m to 7d")
        if seconds(self.gather) > 600:
            raise ValueError("gather: at most 10m")
        if self.digest is not None and not 60 <= seconds(self.digest) <= 86_400:
            raise ValueError("digest: from 1m to 1d")
        return self

    def in_steps(self) -> list[Step]:
        """Its steps, also where it says `tell`."""
        return self.steps or [Step(tell=[f"channel:{name}" for name in self.tell])]

    def told(self) -> set[str]:
        """All whom it ever tells."""
        return {target for step in self.in_steps() for target in step.tell}


class Callout(CalloutBody):
    name: str


class CalloutDocument(CalloutBody):
    """A callout in a file."""

    callout: Name

    def body(self) -> CalloutBody:
        return CalloutBody.model_validate(self.model_dump(exclude={"callout"}, exclude_unset=True, by_alias=True))


class CalloutText(Strict):
    """A callout as it is written, in YAML."""

    text: Annotated[str, Field(max_length=100_000)]


class CalloutRead(BaseModel):
    """A callout as it was read, none where it cannot be, and what is wrong with it."""

    callout: CalloutDocument | None
    problems: list[DocumentProblem]


class WhoIncident(Strict):
    """An incident as it might be."""

    severity: Literal["warning", "critical"] = "critical"
    host: Annotated[str, Field(max_length=100)] | None = None
    application: Annotated[str, Field(max_length=100)] | None = None
    rule: Annotated[str, Field(max_length=100)] | None = None


class WhoAsked(Strict):
    at: Instant = "now"
    incident: WhoIncident = WhoIncident()


class WouldBeTold(BaseModel):
    """Somebody who would be told: by which step of which callout, how long after the opening, and why."""

    callout: str
    step: int
    after_seconds: float
    person: str | None
    channel: str | None
    because: str
