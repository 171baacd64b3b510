"""How long things are kept."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field, model_validator

from balise.api.metrics import FilterText, NamedFilter
from balise.api.spans import Duration, seconds

DAY = 86_400.0

Days = Annotated[float, Field(ge=0.25, le=3650)]


class EventKeep(BaseModel):
    """How long events that pass a filter are kept; without one, all others."""

    model_config = ConfigDict(extra="forbid")
    where: FilterText | None = None
    filter: NamedFilter = None
    keep: Duration

    @model_validator(mode="after")
    def _bounded(self) -> EventKeep:
        if not 3600 <= seconds(self.keep) <= 3650 * DAY:
            raise ValueError("keep: between 1h and 3650d")
        return self


EventKeeps = Annotated[list[EventKeep], Field(max_length=20)]
MostBytes = Annotated[int, Field(ge=64 << 20, le=1 << 50)]


class RetentionBody(BaseModel):
    """How long points and events are kept. The first filter that an event passes decides; the last entry has none.

    With `most_bytes`, the oldest days of events go before their time when all of them take more.
    """

    model_config = ConfigDict(extra="forbid")
    events: Annotated[EventKeeps, Field(min_length=1)]
    most_bytes: MostBytes | None = None
    set_aside: bool | None = Field(default=None, description="copy days of events out before they are forgotten")
    raw: Duration | None = None
    five_minutes: Duration | None = None
    hours: Duration | None = None

    @model_validator(mode="after")
    def _one_for_all(self) -> RetentionBody:
        for_all = [entry.where is None and entry.filter is None for entry in self.events]
        if for_all != [False] * (len(for_all) - 1) + [True]:
            raise ValueError("events: the last entry, and only that, has no filter: it is for all others")
        return self


class RetentionAnswer(BaseModel):
    """How long things are kept, how much they take now, and when there is no room any more at this pace."""

    events: list[EventKeep]
    most_bytes: int | None
    set_aside: bool
    raw: str
    five_minutes: str
    hours: str
    event_bytes: int
    event_days: int = Field(description="days of which there are events")
    point_bytes: int
    free_bytes: int
    growth_bytes_per_day: float | None = Field(description="of all that is kept; none in the first half hour")
    full_in_days: float | None = Field(description="at this pace; none while nothing grows")


class Keeping(BaseModel):
    """Days after which things are forgotten: points as they came and summed up in steps, events with evidence, alerts
    that are over, and the audit log."""

    model_config = ConfigDict(extra="forbid")
    raw: Days = 14.0
    five_minutes: Days = 90.0
    hour: Days = 730.0
    events: Days = 30.0
    alerts: Days = 400.0
    audit: Annotated[float, Field(ge=30, le=3650)] = 800.0
    events_by: EventKeeps = Field(default=[], description="events that pass a filter are kept this long instead")
    most_event_bytes: MostBytes | None = None
    set_aside: bool = Field(default=False, description="days of events are copied out before they are forgotten")

    @model_validator(mode="after")
    def _sums_stay_longer(self) -> Keeping:
        if not self.raw <= self.five_minutes <= self.hour:
            raise ValueError("hour: what is summed up stays at least as long: raw <= five_minutes <= hour")
        return self
