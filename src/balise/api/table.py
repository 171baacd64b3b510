"""The fleet as a table: any metric, fact, label or count as a column."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, field_validator, model_validator

from balise.api.hosts import State
from balise.api.metrics import FilterName, FilterText, MetricName, Take
from balise.api.spans import Duration, seconds
from balise.api.strict import Strict

Counted = Literal["alerts", "incidents", "events"]
LONGEST_OVER = 31 * 86_400.0


class TableColumn(Strict):
    """One of `metric`, `fact`, `label` and `count`.

    Of a metric, what is taken of its points over the last while; a fact as the agent told it, or `kit.NAME` for the
    version of a kit that is at work; `where` chooses series, or which alerts, incidents or events are counted.
    """

    metric: MetricName | None = None
    fact: Annotated[str, Field(min_length=1, max_length=100)] | None = None
    label: Annotated[str, Field(min_length=1, max_length=100)] | None = None
    count: Counted | None = None
    where: FilterText | None = None
    take: Take = "avg"
    over: Duration | None = None

    @field_validator("over")
    @classmethod
    def _not_too_long(cls, over: str | None) -> str | None:
        if over is not None and not 15 <= seconds(over) <= LONGEST_OVER:
            raise ValueError("between 15s and 31d")
        return over

    @model_validator(mode="after")
    def _of_one_thing(self) -> TableColumn:
        said = [name for name in ("metric", "fact", "label", "count") if getattr(self, name) is not None]
        if len(said) != 1:
            raise ValueError("a column is of one thing: write exactly one of metric, fact, label, count")
        if self.where is not None and said[0] in ("fact", "label"):
            raise ValueError("where goes with metric and count")
        return self

    @property
    def name(self) -> str:
        """What the column is of, in one word."""
        named = {"fact": self.fact, "label": self.label and f"label.{self.label}", "count": self.count}
        return self.metric or next(value for value in named.values() if value)


class TableOrder(Strict):
    """By a column, by its number from 0 on, or by `name` or `state`; what has no value comes last either way."""

    column: Annotated[int, Field(ge=0, lt=20)] | None = None
    by: Literal["name", "state"] | None = None
    descending: bool = False

    @model_validator(mode="after")
    def _by_one(self) -> TableOrder:
        if (self.column is None) == (self.by is None):
            raise ValueError("write column or by")
        return self


class HostTableQuery(Strict):
    columns: Annotated[list[TableColumn], Field(max_length=20)] = []
    where: FilterText | None = None
    filter: FilterName | None = None
    group_by: Annotated[str, Field(min_length=1, max_length=100)] | None = Field(
        default=None, description="site, group, application, os, mode, label.NAME, fact.NAME or kit.NAME"
    )
    sort: Annotated[list[TableOrder], Field(max_length=5)] = []
    lines: bool = Field(default=False, description="with each metric's course over its while, in 24 steps")
    limit: Annotated[int, Field(ge=1, le=10_000)] = 100
    cursor: Annotated[str, Field(max_length=100)] | None = None

    @model_validator(mode="after")
    def _of_its_columns(self) -> HostTableQuery:
        for order in self.sort:
            if order.column is not None and order.column >= len(self.columns):
                raise ValueError(f"sort: there is no column {order.column}")
        return self


class ColumnAnswer(Strict):
    name: str
    unit: str
    kind: Literal["number", "text"]
    problem: str = Field(default="", description="why it is empty")


class TableRow(Strict):
    """`unusual` says of each value how many times as far as usual it is from its group; null when it is not."""

    host: str
    state: State
    values: list[float | str | None]
    unusual: list[float | None]
    lines: list[list[float | None] | None] | None = None


class GroupValue(Strict):
    """A column over the hosts of a group that have a value; `worst` is the host of the highest."""

    sum: float
    mean: float
    least: float
    most: float
    worst: str
    hosts: int


class TableGroup(Strict):
    name: str
    hosts: int
    state: State
    states: dict[State, int]
    values: list[GroupValue | None]


class HostTable(Strict):
    columns: list[ColumnAnswer]
    items: list[TableRow]
    groups: list[TableGroup] | None = None
    next: str | None = None
    total: int
    as_of: float = Field(description="unix seconds of the oldest column's values")
