"""Asking for metrics."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from balise.api.spans import Duration, Instant

Take = Literal["avg", "min", "max", "sum", "count", "last", "rate", "p50", "p90", "p95", "p99"]
FilterText = Annotated[str, Field(max_length=2000, description="a filter expression, RFC 7644 section 3.4.2.2")]
FilterName = Annotated[
    str, Field(min_length=1, max_length=100, description="a filter that has a name, beside `where` or alone")
]
NamedFilter = Annotated[
    FilterName | None,
    Field(
        exclude_if=lambda name: name is None,
        description="a filter that has a name: what it says now is kept, joined with the one that is written",
    ),
]
"""Of what is kept; never in an answer."""
MetricName = Annotated[str, Field(min_length=1, max_length=255)]


class MetricQuery(BaseModel):
    model_config = ConfigDict(populate_by_name=True)

    metric: MetricName
    where: FilterText | None = None
    filter: FilterName | None = None
    from_: Annotated[Instant, Field(alias="from")] = "-1h"
    to: Instant = "now"
    step: Duration | None = None
    points: Annotated[int, Field(ge=1, le=5000)] | None = None
    take: Take = "avg"
    by: Annotated[list[Annotated[str, Field(max_length=255)]], Field(max_length=10)] = ["host"]
    top: Annotated[int, Field(ge=1, le=1000)] | None = Field(
        default=None, description="only so many series, those with the highest mean"
    )


class SeriesAnswer(BaseModel):
    attributes: dict[str, str]
    values: list[float | None]


class MetricAnswer(BaseModel):
    """`values[i]` belongs to the step that begins at `times[i]`; null where nothing was heard.

    `step_seconds` is wider than the step that was asked for when no tier of the span has such narrow ones.
    """

    metric: str
    unit: str
    step_seconds: float
    times: list[float]
    series: list[SeriesAnswer]
    tier: Literal["raw", "5m", "1h"]
    left_out: int = Field(default=0, description="series beyond the limit of one answer")
    note: str = Field(default="", description="what could not be known of the span, and why")


class Metric(BaseModel):
    name: str
    unit: str
    kind: Literal["gauge", "counter", "delta", "sum", "histogram", "summary"]
    description: str
    attributes: list[str]
    series: int
