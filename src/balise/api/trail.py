"""The trail: the likely causes of what is felt somewhere, and what people said of them."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, Field, model_validator

from balise.api.incidents import Id
from balise.api.spans import Instant
from balise.api.strict import Strict

ThingKind = Literal[
    "host", "service", "session", "process", "user", "query", "change", "volume", "certificate", "address", "link",
    "machine",
]  # fmt: skip
SignKind = Literal["saturation", "errors", "latency", "traffic", "waiting", "state", "other"]
"""What a sign tells of work: how full, how often wrong, how slow, how much, how many wait, and whether at all."""
BecauseKind = Literal["series", "pattern", "session", "process", "change", "state", "edge", "shared"]
PlaceName = Annotated[str, Field(min_length=1, max_length=255)]


class TrailQuery(Strict):
    """Where something is felt, and when: one host, service, application or alert."""

    host: PlaceName | None = None
    service: PlaceName | None = Field(default=None, description="by its name; with a host the one on that alone")
    application: PlaceName | None = None
    alert: Id | None = None
    from_: Annotated[Instant | None, Field(alias="from")] = Field(
        default=None, description="40 minutes back, or 10 minutes before the alert, unless said"
    )
    to: Instant | None = Field(default=None, description="now, or 40 minutes after the alert, unless said")

    @model_validator(mode="after")
    def _is_about_one_place(self) -> TrailQuery:
        places = [self.host or self.service, self.application, self.alert]
        if sum(place is not None for place in places) != 1:
            raise ValueError("host, service, application, alert: say one of them")
        return self


class SuspectThing(BaseModel):
    """The narrowest thing that something can be said of; what is outside has no host."""

    kind: ThingKind
    name: str
    host: str | None = None
    service: str | None = None


class Explained(BaseModel):
    """A place that left its usual after the suspect, and depends on it."""

    place: str
    text: str
    at: str
    likely_after: float = Field(description="by both moments and their uncertainties, 0 to 1")
    strength: float = Field(description="how much of what befalls the suspect reaches it, as the edges say, 0 to 1")


class Because(BaseModel):
    """One piece of evidence. `deviation` is in times of what is usual; `link` opens it in the console."""

    kind: BecauseKind
    text: str
    at: str | None = None
    deviation: float | None = None
    link: str | None = None


class TrailSuspect(BaseModel):
    """One thing that may be the cause. `measures` are what `sure` is made of: see docs/trail.md."""

    rank: int
    sure: float = Field(description="how likely it is right to name it as the cause, 0 to 1; several may be right")
    thing: SuspectThing
    title: str = Field(description="the thing as people call it")
    what: str
    since: str
    until: str | None = None
    uncertainty_seconds: float
    explains: list[Explained]
    because: list[Because]
    advice: str
    less: str = Field(default="", description="of those after the first, why they are less likely")
    measures: dict[str, float]


class Departure(BaseModel):
    """A series or a pattern that left its usual; `kind` is what it tells of."""

    host: str | None
    metric: str | None = None
    pattern: str | None = None
    attributes: dict[str, str]
    text: str
    at: str
    uncertainty_seconds: float
    deviation: float | None
    kind: SignKind
    take: Literal["avg", "rate"] | None = Field(default=None, description="how the metric was read")
    usual_low: float | None = Field(default=None, description="what it mostly was above before")
    usual_high: float | None = Field(default=None, description="what it mostly was below before")
    of: int | None = Field(default=None, description="the rank of the suspect whose thing it is")
    follows: bool = Field(default=False, description="whether its place depends on the first suspect, or is its own")
    link: str | None = None


class LookedAt(BaseModel):
    """How much was looked at, and how many hosts and series were not."""

    hosts: int
    series: int
    events: int
    left_out: int
    seconds: float


class SaidCause(BaseModel):
    """What a person said of the cause of an incident: the suspect of a rank, or another."""

    incident: int
    rank: int | None
    sure: float | None = Field(description="what the trail had said of it")
    kind: ThingKind | None
    text: str
    who: str
    at: str


class Trail(BaseModel):
    """The likely causes, the likeliest first, and everything that departed, in its order."""

    sentence: str
    sure: float
    from_: Annotated[str, Field(alias="from")]
    to: str
    made_at: str
    suspects: list[TrailSuspect]
    departed: list[Departure]
    departed_count: int
    looked_at: LookedAt
    leaning: dict[str, float] = Field(
        description="by kind of thing how far what people said before moves the odds (natural logarithm)"
    )
    cause: SaidCause | None = Field(default=None, description="what was said of it, if that was")
    before: list[SaidCause] = Field(default=[], description="what was said of incidents alike, the newest first")

    model_config = {"populate_by_name": True}


class CauseBody(Strict):
    """The suspect of a rank is right, or the cause is another."""

    suspect: Annotated[int, Field(ge=1, le=10)] | None = None
    other: Annotated[str, Field(min_length=1, max_length=500)] | None = None

    @model_validator(mode="after")
    def _says_one(self) -> CauseBody:
        if (self.suspect is None) == (self.other is None):
            raise ValueError("suspect, other: say one of them")
        return self


class KindRecord(BaseModel):
    """Of one kind of thing: how often the trail expected it to be right, how often it was, and what follows."""

    kind: ThingKind
    expected: float
    right: int
    leaning: float = Field(description="added to the odds of such things (natural logarithm), at most 0.7 either way")


class TrailRecord(BaseModel):
    """How often which rank was right, as people said."""

    days: int | None
    said: int = Field(description="incidents whose cause somebody named")
    first: int
    second: int
    third: int
    later: int
    other: int = Field(description="how often it was none of those that were named")
    none_stood_out: int = Field(description="of all these, how often the trail had said that no cause stands out")
    kinds: list[KindRecord]
    newest: list[SaidCause]
