"""Rules: what to watch, and its limits."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field, model_validator

from balise.api.metrics import FilterText, MetricName, Take
from balise.api.spans import Duration, Instant, Name


class Strict(BaseModel):
    """A misspelt key in a rule is an error, not a rule that silently does something else."""

    model_config = ConfigDict(extra="forbid")


class Measure(Strict):
    metric: MetricName
    where: FilterText | None = None
    each: Annotated[list[Annotated[str, Field(max_length=255)]], Field(min_length=1, max_length=8)] = ["host"]
    take: Take = "last"
    over: Duration = "1m"


class Limit(Strict):
    """Either `above` or `below`, in the unit of the metric."""

    above: float | None = Field(default=None, allow_inf_nan=False)
    below: float | None = Field(default=None, allow_inf_nan=False)
    hold: Duration = "0s"
    clear: float | None = Field(default=None, allow_inf_nan=False)

    @model_validator(mode="after")
    def _one_direction(self) -> Limit:
        if (self.above is None) == (self.below is None):
            raise ValueError("a limit has either above or below: write exactly one of them")
        bound = self.above if self.above is not None else self.below
        if self.clear is not None and bound is not None:
            if self.above is not None and self.clear > bound:
                raise ValueError("clear must not be higher than above, or the alert would clear while it is breached")
            if self.below is not None and self.clear < bound:
                raise ValueError("clear must not be lower than below, or the alert would clear while it is breached")
        return self


class Limits(Strict):
    warning: Limit | None = None
    critical: Limit | None = None

    @model_validator(mode="after")
    def _at_least_one(self) -> Limits:
        if self.warning is None and self.critical is None:
            raise ValueError("write at least one limit: warning or critical")
        if self.warning and self.critical:
            if (self.warning.above is None) != (self.critical.above is None):
                raise ValueError("warning and critical must both say above, or both say below")
            if (
                self.warning.above is not None
                and self.critical.above is not None
                and self.critical.above < self.warning.above
            ):
                raise ValueError("critical must not be below warning when both say above")
            if (
                self.warning.below is not None
                and self.critical.below is not None
                and self.critical.below > self.warning.below
            ):
                raise ValueError("critical must not be above warning when both say below")
        return self


class RuleBody(Strict):
    """A rule without its name, as it is sent to `/api/v1/rules/{name}`."""

    about: Annotated[str, Field(min_length=1, max_length=200)]
    hosts: FilterText | None = None
    measure: Measure
    limits: Limits
    advice: Annotated[str, Field(max_length=4000)] = ""
    enabled: bool = True


class RuleDocument(RuleBody):
    """A rule as a file: the same keys, and its name under `rule`."""

    rule: Name | None = None


class Rule(RuleBody):
    name: str
    unit: str
    updated_at: str
    updated_by: str
    shipped: bool
    open_alerts: int


class Rehearse(Strict):
    model_config = ConfigDict(extra="forbid", populate_by_name=True)

    rule: RuleDocument
    from_: Annotated[Instant, Field(alias="from")] = "-24h"
    to: Instant = "now"


class RehearsedAlert(BaseModel):
    host: str
    attributes: dict[str, str]
    severity: str
    opened_at: float
    recovered_at: float | None
    worst_value: float


class Rehearsal(BaseModel):
    """When the rule would have opened, over the stored history of the span."""

    groups: int
    step_seconds: float
    unit: str
    items: list[RehearsedAlert]
    left_out: int
