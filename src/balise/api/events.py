"""Asking for events."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from balise.api.metrics import FilterName, FilterText
from balise.api.spans import Instant

Severity = Literal["emergency", "alert", "critical", "error", "warning", "notice", "informational", "debug"]
SEVERITIES: tuple[Severity, ...] = (
    "emergency",
    "alert",
    "critical",
    "error",
    "warning",
    "notice",
    "informational",
    "debug",
)
"""RFC 5424 section 6.2.1: the index is the numerical code, 0 the most severe."""


class EventsAsked(BaseModel):
    """Which events: words, a filter, one that has a name, and a span."""

    model_config = ConfigDict(populate_by_name=True)

    text: Annotated[str, Field(max_length=500)] | None = None
    where: FilterText | None = None
    filter: FilterName | None = None
    from_: Annotated[Instant, Field(alias="from")] = "-1h"
    to: Instant = "now"


class EventQuery(EventsAsked):
    limit: Annotated[int, Field(ge=1, le=1000)] = 100
    cursor: Annotated[str, Field(max_length=100)] | None = None


class ExportQuery(EventsAsked):
    """All events of a question, as lines of a file, the newest first."""

    format: Literal["csv", "jsonl", "rfc5424"]


class Event(BaseModel):
    id: str
    time: str
    host: str
    severity: Severity
    source: str
    body: str
    attributes: dict[str, Any]
    pattern: str | None = Field(default=None, description="which pattern it is of, if it is like others")


class AroundAnswer(BaseModel):
    """An event with what stands beside it, all in the order of time."""

    before: list[Event]
    event: Event
    after: list[Event]


class HistogramQuery(EventsAsked):
    bars: Annotated[int, Field(ge=1, le=500)] = 60


class HistogramAnswer(BaseModel):
    """`counts[severity][i]` events in the step that begins at `times[i]`."""

    step_seconds: float
    times: list[float]
    counts: dict[Severity, list[int]]
    total: int


class SaidLine(BaseModel):
    """Lines that say the same with other values, counted together, beside what is usual."""

    pattern: str
    severity: Severity
    source: str
    count: int
    usual: float | None = Field(description="how many there were in the same length of time before")
    example: str


class PatternQuery(EventsAsked):
    order: Literal["new", "count"] = Field(
        default="new", description="new ones and those that are suddenly frequent first, or by how many there are"
    )
    limit: Annotated[int, Field(ge=1, le=500)] = 100


Change = Literal["new", "more", "less", "same"]


class Pattern(BaseModel):
    """Lines that say the same with other values. `change` is beside the same time yesterday and a week ago."""

    id: str | None = Field(description="none for lines that are like no others")
    pattern: str
    severity: Severity
    source: str
    hosts: list[str] = Field(description="those that said it most, at most 20")
    host_count: int
    count: int
    share: float = Field(description="of all events of the question, 0 to 1")
    yesterday: int | None = Field(description="at the same time a day before; none when nothing is kept of then")
    last_week: int | None
    first_seen: str | None
    example: str
    change: Change


class PatternAnswer(BaseModel):
    """`total` patterns there are, of `events` in all."""

    items: list[Pattern]
    total: int
    events: int


class FieldsQuery(EventsAsked):
    """Of which attributes the top values are asked; of all that there are, unless some are named."""

    attributes: Annotated[list[Annotated[str, Field(min_length=1, max_length=255)]], Field(max_length=50)] | None = None
    limit: Annotated[int, Field(ge=1, le=100)] = 10


class FieldValue(BaseModel):
    value: str | float | bool
    count: int


class FieldCount(BaseModel):
    """An attribute: how many events have it, its top values, and how many values the others are together."""

    attribute: str
    events: int
    values: list[FieldValue]
    others: int = Field(description="events with another value than those")


class FieldsAnswer(BaseModel):
    items: list[FieldCount]
    left_out: int = Field(description="events whose attributes were too many to be looked at")
