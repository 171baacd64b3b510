"""Other limits for a host, a group or everybody, from an alert."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from balise.api.limits import Limits
from balise.api.spans import Instant, Name


class Tune(BaseModel):
    """Limits of the alert's rule for some; without `limits` the rule is off there, which needs an `until`."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)

    for_: Annotated[Literal["host", "group", "all"], Field(alias="for")]
    group: Name | None = Field(default=None, description="which of the host's groups; the nearest one, unless given")
    limits: Limits | None = None
    until: Instant | None = Field(default=None, description="when it ends by itself")
    why: Annotated[str, Field(min_length=1, max_length=500)]
    dry_run: bool = False


class TunedOver(BaseModel):
    """What the rule did on those that are meant over some days, and what it would have done."""

    days: int
    opened: int
    would_open: int
    open_seconds: float
    would_be_open_seconds: float
    known: bool = Field(default=True, description="whether it could be looked at at all; if not, there are no counts")
    note: str = Field(default="", description="what could not be known of these days, and why")


class Tuned(BaseModel):
    done: bool
    plan: str | None = Field(description="the plan that has it now, or would have; null when it is the rule itself")
    rule: str
    hosts: int = Field(description="for how many hosts it is")
    before: str
    after: str
    over: list[TunedOver]
