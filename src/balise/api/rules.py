"""Rules: what to watch, and its limits."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from balise.api.limits import Limit, LimitKind, Limits
from balise.api.measures import Measure
from balise.api.metrics import FilterText, NamedFilter
from balise.api.problems import DocumentProblem
from balise.api.spans import Instant, Name, seconds
from balise.api.strict import Strict

TRENDED = ("metric", "values")
_MEASURED: dict[LimitKind, tuple[str, ...]] = {
    "unusual": TRENDED,
    "runs_out_within": TRENDED,
    "missing_for": ("metric", "events"),
    "first_seen": ("metric", "events"),
}


class RuleBody(Strict):
    """A rule without its name, as it is sent to `/api/v1/rules/{name}`."""

    about: Annotated[str, Field(min_length=1, max_length=200)]
    hosts: FilterText | None = None
    filter: NamedFilter = None
    measure: Measure
    limits: Limits
    advice: Annotated[str, Field(max_length=4000)] = ""
    enabled: bool = True
    flaps_after: Annotated[int, Field(ge=0, le=1000)] = Field(
        default=4,
        description="an alert that opened more often than this within an hour stays open until it has been calm for "
        "half an hour; 0: never",
    )

    @model_validator(mode="after")
    def _goes_together(self) -> RuleBody:
        measure, kind = self.measure, self.limits.kind
        if measure.over is None:
            # What is new is new for an hour.
            measure.over = "1h" if kind == "first_seen" else "1m"
        if measure.kind not in _MEASURED.get(kind, (measure.kind,)):
            raise ValueError(f"limits: {kind} is for {', '.join(_MEASURED[kind])}, not for {measure.kind}")
        if kind in ("missing_for", "first_seen") and (measure.pattern is not None or measure.taken == "distinct"):
            raise ValueError(f"limits: {kind} is about when something was heard: leave take and pattern out")
        takes = {part.take for part in measure.parts.values()}
        if kind == "unusual" and takes & {"change", "p50", "p90", "p95", "p99"}:
            raise ValueError("limits: unusual is for avg, min, max, sum, count, last and rate, which hours are kept of")
        return self

    def alone(self) -> RuleBody:
        """What the rule says, without its name, why it is so, and what is known of it."""
        return RuleBody.model_validate({name: getattr(self, name) for name in RuleBody.model_fields})

    @property
    def windows(self) -> float:
        """How far the rule looks back, seconds."""
        return seconds(self.measure.over or "1m")


class RuleChange(RuleBody):
    """A rule as it is sent, and why it is as it is."""

    why: Annotated[str, Field(max_length=500)] = ""


class RuleDocument(RuleBody):
    """A rule as a file: the same keys, and its name under `rule`."""

    rule: Name | None = None


class Rule(RuleBody):
    name: str
    unit: str
    version: int
    opened: int = Field(description="how often it opened in the span")
    open_seconds: float
    untaken: int = Field(description="how many of these alerts nobody acknowledged")
    problem: str = Field(default="", description="why it cannot be checked")
    warnings: list[str] = Field(default=[], description="what in its filters matches nothing")
    learning: str = Field(default="", description="what it cannot know yet")
    updated_at: str
    updated_by: str
    shipped: bool
    open_alerts: int


class Rehearse(Strict):
    model_config = ConfigDict(extra="forbid", populate_by_name=True)

    rule: RuleDocument
    from_: Annotated[Instant, Field(alias="from")] = "-24h"
    to: Instant = "now"


class RulesChecked(Strict):
    """Rules to be looked at together."""

    rules: Annotated[list[RuleDocument], Field(max_length=2000)]


class RuleText(Strict):
    """A rule as it is written, in YAML."""

    text: Annotated[str, Field(max_length=100_000)]


class RuleRead(BaseModel):
    """A rule as it was read, none where it cannot be, and what is wrong with it."""

    rule: RuleDocument | None
    problems: list[DocumentProblem]


class RuleProblem(BaseModel):
    """What is wrong with a rule."""

    rule: str
    field: str
    detail: str


class RehearsedAlert(BaseModel):
    host: str
    attributes: dict[str, str]
    severity: str
    opened_at: float
    recovered_at: float | None
    worst_value: float


class Line(BaseModel):
    """What one group measured over the span, for a chart; null where there was nothing."""

    host: str
    attributes: dict[str, str]
    values: list[float | None]
    low: list[float | None] | None = Field(default=None, description="of `unusual`: from where on it is not")
    high: list[float | None] | None = None


class Points(BaseModel):
    """Lines of the worst groups; `values[i]` belongs to `times[i]`, unix seconds."""

    times: list[float]
    lines: list[Line]


class HostOpened(BaseModel):
    host: str
    opened: int


class Compared(BaseModel):
    """What the version in force would have done over the same span."""

    opened: int
    open_seconds: float
    groups: int
    same: int = Field(description="how many of its alerts overlap one of the rehearsed")


class Rehearsal(BaseModel):
    """When the rule would have opened, over the stored history of the span."""

    groups: int
    step_seconds: float
    unit: str
    items: list[RehearsedAlert]
    left_out: int
    opened: int
    a_day: float
    open_seconds: float = Field(description="all alerts together")
    by_hour: list[int] = Field(
        description="openings in each hour of the week, Monday 00:00 first, where the console is"
    )
    hosts: list[HostOpened] = Field(description="the hosts on which it would have opened most often")
    compared: Compared | None
    points: Points | None
    notes: list[str] = Field(default=[], description="what could not be known of the span, and why")


class Suggest(Rehearse):
    at_most_a_week: Annotated[float, Field(gt=0, le=1000)] = 2


class Suggestion(BaseModel):
    """Limits that would have opened no more often than was asked for."""

    warning: Limit | None
    critical: Limit | None
    would_open: int
    separates: float = Field(
        description="how wide the stretch of limits is that would have done the same, in units of how far the lowest "
        "stands above the middle: near 0, they are a matter of luck"
    )
    values: dict[str, float] = Field(description="what was measured: middle, p90, p99, p99.9 and worst")
    unit: str


class RuleVersion(BaseModel):
    """A form that a rule had, or has."""

    version: int
    at: str
    who: str
    why: str
    what: Literal["written", "shipped", "deleted", "restored"]
    changes: list[str] = Field(description="what differs from the version before, as `limits.warning.above: 1 -> 2`")
    body: dict[str, Any]


class Restore(BaseModel):
    version: Annotated[int, Field(ge=1)]


class HostRule(BaseModel):
    """A rule that watches a host, for one group."""

    rule: str
    about: str
    attributes: dict[str, str]
    from_: Annotated[str, Field(alias="from", description="the kit, plan or person its limits come from")]
    limits: Limits
    unit: str
    value: float | None
    level: Literal["ok", "warning", "critical"]
    distance: float | None = Field(description="how far from breach, as a share of the limit; below 0 is beyond it")
    note: str
    alert: int | None
