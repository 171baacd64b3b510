"""How much of a span a host, service, probe or application was there."""

from __future__ import annotations

from typing import Annotated, Literal, get_args

from pydantic import BaseModel, ConfigDict, Field

from balise.api.strict import Strict

AvailableOf = Literal["host", "service", "probe", "application"]
OF: tuple[AvailableOf, ...] = get_args(AvailableOf)
Presence = Literal["up", "down", "unknown", "maintenance"]
TargetPer = Literal["week", "month", "quarter", "year"]


class PresenceFrom(BaseModel):
    """One of the four from a moment on, unix seconds, until the next."""

    at: float
    presence: Presence


class Outage(BaseModel):
    """`to` is null while it goes on, or goes beyond the span."""

    model_config = ConfigDict(populate_by_name=True)

    from_: Annotated[str, Field(alias="from")]
    to: str | None
    seconds: float
    incident: int | None = Field(default=None, description="the incident that it was")
    cause: str = ""


class AvailabilityTarget(Strict):
    """What share of a period it is to be up, maintenance and what is not known left out."""

    share: Annotated[float, Field(gt=0, lt=1, description="0.999 for 99.9 %")]
    per: TargetPer = "month"


class Shares(BaseModel):
    """Of a span; all four together are 1."""

    up: float
    down: float
    unknown: float
    maintenance: float
    outage_count: int
    down_seconds: float


class Availability(Shares):
    of: AvailableOf
    name: str
    outages: list[Outage] = Field(description="the newest first")
    ribbon: list[PresenceFrom]
    between_seconds: float | None = Field(description="mean time between failures: time up for each outage")
    repair_seconds: float | None = Field(description="mean time to repair: how long outages that ended took")
    target: AvailabilityTarget | None = None
    left: float | None = Field(
        default=None, description="of what may be down in this period, the share that is left; less than 0 is missed"
    )
    left_seconds: float | None = None


class AvailabilityOfOne(Shares):
    """Of one of many. `ribbon` as of one alone, with at most 200 changes."""

    name: str
    target: AvailabilityTarget | None = None
    ribbon: list[PresenceFrom]


class AvailabilityList(BaseModel):
    """Those that were down longest come first."""

    items: list[AvailabilityOfOne]
    left_out: int = Field(default=0, description="how many more there are")
    down: int = Field(default=0, description="how many of all were down for a while")
