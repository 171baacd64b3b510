"""Asking for metrics."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from balise.api.arithmetic import names_in
from balise.api.spans import Duration, Instant, Shift
from balise.api.strict import Strict

Take = Literal["avg", "min", "max", "sum", "count", "last", "rate", "change", "p50", "p90", "p95", "p99"]
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


class Value(Strict):
    """One of the metrics that `compute` puts together."""

    metric: MetricName
    where: FilterText | None = None
    take: Take = "last"


Values = Annotated[
    dict[Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,30}$")], Value], Field(min_length=1, max_length=8)
]


class MetricQuery(BaseModel):
    """Of a `metric`, or of several `values` that `compute` puts together: numbers, `+ - * /` and parentheses."""

    model_config = ConfigDict(populate_by_name=True)

    metric: MetricName | None = None
    values: Values | None = None
    compute: Annotated[str, Field(min_length=1, max_length=500)] | None = None
    where: FilterText | None = None
    filter: FilterName | None = None
    from_: Annotated[Instant, Field(alias="from")] = "-1h"
    to: Instant = "now"
    shift: Shift | None = Field(default=None, description="`-1d` answers with what was a day before, at these times")
    step: Duration | None = None
    points: Annotated[int, Field(ge=1, le=5000)] | None = None
    take: Take = "avg"
    by: Annotated[list[Annotated[str, Field(max_length=255)]], Field(max_length=10)] = ["host"]
    top: Annotated[int, Field(ge=1, le=1000)] | None = Field(
        default=None, description="only so many series, those with the highest mean"
    )

    @field_validator("by")
    @classmethod
    def _each_once(cls, by: list[str]) -> list[str]:
        return list(dict.fromkeys(by))

    @model_validator(mode="after")
    def _asks_one_thing(self) -> MetricQuery:
        if (self.metric is None) == (self.values is None):
            raise ValueError("write a metric, or values and how to compute with them")
        if (self.values is None) != (self.compute is None):
            raise ValueError("values and compute go together")
        if self.values is not None and (unknown := names_in(self.compute or "") - set(self.values)):
            raise ValueError(f"compute: there is no value {sorted(unknown)[0]!r} among values")
        return self


MOST_QUERIES = 50


class MetricQueries(Strict):
    """Several questions at once, answered in their order."""

    queries: Annotated[list[MetricQuery], Field(min_length=1, max_length=MOST_QUERIES)]


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
    problem: str = Field(default="", description="of several questions: why this one has no answer")


class MetricAnswers(BaseModel):
    answers: list[MetricAnswer]


class Metric(BaseModel):
    name: str
    unit: str
    kind: Literal["gauge", "counter", "delta", "sum", "histogram", "summary"]
    description: str
    attributes: list[str]
    series: int
