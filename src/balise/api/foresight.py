"""What is usual of a metric at the hours of the week, and when it gets to a value."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator

from balise.api.metrics import FilterName, FilterText, MetricName
from balise.api.spans import Duration, Instant, seconds

Attributes = Annotated[list[Annotated[str, Field(min_length=1, max_length=255)]], Field(min_length=1, max_length=8)]
Kept = Literal["avg", "min", "max", "sum", "count", "last", "rate"]


class BaselineQuery(BaseModel):
    model_config = ConfigDict(populate_by_name=True)

    metric: MetricName
    where: FilterText | None = None
    filter: FilterName | None = None
    by: Attributes = ["host"]
    take: Kept = "avg"
    from_: Annotated[Instant, Field(alias="from")] = "-24h"
    to: Instant = "now"
    deviations: Annotated[float, Field(ge=0.5, le=100)] = Field(default=3, description="how wide the band is")


class Band(BaseModel):
    """Of one group; null where nothing is known. `values[i]` belongs to the hour that begins at `times[i]`."""

    attributes: dict[str, str]
    low: list[float | None]
    middle: list[float | None]
    high: list[float | None]
    enough: bool


class BaselineAnswer(BaseModel):
    times: list[float]
    series: list[Band]
    learned_from: str | None = Field(description="since when there is anything to learn from")
    enough: bool = Field(description="whether that is two weeks at least")


class ForecastQuery(BaseModel):
    metric: MetricName
    where: FilterText | None = None
    filter: FilterName | None = None
    by: Attributes = ["host"]
    take: Kept = "last"
    at: Annotated[float, Field(allow_inf_nan=False)] = 1.0
    horizon: Duration = "3d"

    @field_validator("horizon")
    @classmethod
    def _not_too_far(cls, text: str) -> str:
        if not 60 <= seconds(text) <= 90 * 86_400:
            raise ValueError("between 1m and 90d")
        return text


class Forecast(BaseModel):
    """Of one group; unix seconds, null when it does not get there within the horizon, or nobody can tell."""

    attributes: dict[str, str]
    reaches_at: float | None
    earliest: float | None
    latest: float | None
    slope_per_day: float | None
    fit: float | None = Field(description="how much of its variation the trend explains, 0 to 1")


class ForecastAnswer(BaseModel):
    """Those that get there first come first."""

    series: list[Forecast]
