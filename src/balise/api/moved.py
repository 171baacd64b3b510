"""What moved most in a stretch of time."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, Field

from balise.api.metrics import FilterName, FilterText
from balise.api.spans import Instant
from balise.api.strict import Strict


class MovedQuery(Strict):
    """About a stretch, beside what was before it and the same hours of the last days."""

    from_: Annotated[Instant, Field(alias="from")] = "-15m"
    to: Instant = "now"
    where: FilterText | None = None
    filter: FilterName | None = None
    limit: Annotated[int, Field(ge=1, le=200)] = 20


class MovedSeries(BaseModel):
    """`deviation` is how many times as much as it varied before; `before` and `during` are in `unit`."""

    metric: str
    attributes: dict[str, str]
    host: str
    take: Literal["avg", "rate"]
    unit: str
    before: float
    during: float
    deviation: float
    direction: Literal["up", "down"]
    alike: int = Field(description="how many more series of this metric on this host moved as much as counts")


class MovedAnswer(BaseModel):
    """The farthest first; of each metric on a host the series that moved most."""

    items: list[MovedSeries]
    looked: int = Field(description="series that were looked at")
    compared_from: float = Field(description="unix seconds at which what was before begins")
    days: int = Field(description="of how many days before the same hours are known")
