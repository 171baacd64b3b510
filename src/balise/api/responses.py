"""Responses: what is done by itself when an incident opens or is over."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, model_validator

from balise.api.callouts import Target
from balise.api.metrics import FilterText, NamedFilter
from balise.api.spans import Duration, Name, seconds
from balise.api.strict import Strict

MOST_STEPS = 20


class Capture(Strict):
    """What goes on on the hosts of its worst alerts is captured once more."""

    do: Literal["capture"]


class ProbeAgain(Strict):
    """A probe that is made from the console is made now."""

    do: Literal["probe"]
    probe: Name


class Wait(Strict):
    do: Literal["wait"]
    for_: Annotated[Duration, Field(alias="for")]


class Check(Strict):
    """If all has recovered, it is written down that it helped, and nothing follows."""

    do: Literal["check"]


class Escalate(Strict):
    """Others are told that it did not help."""

    do: Literal["escalate"]
    tell: Annotated[list[Target], Field(min_length=1, max_length=20)]


ResponseStep = Annotated[Capture | ProbeAgain | Wait | Check | Escalate, Field(discriminator="do")]


class ResponseBody(Strict):
    """Steps, one after the other, for the incidents that pass a filter; at most so many of them in a time."""

    when: FilterText
    filter: NamedFilter = None
    on: Literal["opened", "recovered"] = "opened"
    steps: Annotated[list[ResponseStep], Field(min_length=1, max_length=MOST_STEPS)]
    at_most: Annotated[int, Field(ge=1, le=1000)] = 6
    per: Duration = "1h"

    @model_validator(mode="after")
    def _ends(self) -> ResponseBody:
        if sum(seconds(step.for_) for step in self.steps if isinstance(step, Wait)) > 86_400:
            raise ValueError("steps: they wait for at most a day together")
        if not 60 <= seconds(self.per) <= 31 * 86_400:
            raise ValueError("per: from 1m to 31d")
        return self

    def told(self) -> set[str]:
        """All whom it ever tells."""
        return {target for step in self.steps if isinstance(step, Escalate) for target in step.tell}


class Response(ResponseBody):
    name: str


class ResponseDocument(ResponseBody):
    """A response in a file."""

    response: Name

    def body(self) -> ResponseBody:
        return ResponseBody.model_validate(self.model_dump(exclude={"response"}, exclude_unset=True, by_alias=True))
