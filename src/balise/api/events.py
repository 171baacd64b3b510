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


class Pattern(BaseModel):
    """Lines that differ only in their numbers and names, counted together."""

    pattern: str
    severity: Severity
    source: str
    count: int
    usual: float | None = Field(description="how many there were in the same length of time before")
    example: str


class PatternAnswer(BaseModel):
    items: list[Pattern]
    read: int = Field(description="how many events were read to make this")
