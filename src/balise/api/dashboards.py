"""Dashboards: pinned charts, values, tables, lists, with variables."""

from __future__ import annotations

from typing import Annotated, Any, Literal, get_args

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from balise.api.alerts import Alert
from balise.api.events import Event, PatternAnswer
from balise.api.foresight import BaselineAnswer
from balise.api.incidents import Incident
from balise.api.metrics import FilterText, MetricAnswer, MetricName, MetricQuery
from balise.api.problems import DocumentProblem
from balise.api.spans import Duration, Instant, Name, Shift
from balise.api.strict import Strict
from balise.api.table import HostTable, HostTableQuery
from balise.api.tree import Tree

COLUMNS = 12
MOST_PANELS, MOST_VARIABLES = 60, 10
PanelKind = Literal["chart", "value", "table", "states", "events", "patterns", "incidents", "alerts", "text"]
PANEL_KINDS: tuple[PanelKind, ...] = get_args(PanelKind)
VariableName = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,30}$")]
Value = Annotated[str, Field(max_length=255)]


class Variable(Strict):
    """Something that is chosen at the top: of hosts, groups, sites, applications, or any attribute of a metric."""

    name: VariableName
    of: Annotated[str, Field(min_length=1, max_length=255)]
    metric: MetricName | None = Field(default=None, description="whose attribute it is, for attributes of series")
    where: FilterText | None = None
    default: Annotated[list[Value], Field(max_length=50)] = []


class ChartQuery(Strict):
    """Metrics over the span of the page; what it says of `from` and `to` itself counts for nothing."""

    queries: Annotated[list[MetricQuery], Field(min_length=1, max_length=10)]
    beside: Annotated[list[Shift], Field(max_length=3)] = []
    usual: bool = False
    stack: bool = False
    logarithmic: bool = False
    lowest: float | None = None
    highest: float | None = None

    @model_validator(mode="before")
    @classmethod
    def _one_alone(cls, value: Any) -> Any:
        """A lone question may stand for itself."""
        if isinstance(value, dict) and "queries" not in value:
            own = {key: value[key] for key in value if key in cls.model_fields}
            return {**own, "queries": [{key: said for key, said in value.items() if key not in own}]}
        return value


class ValueQuery(MetricQuery):
    """One figure: what is taken over the whole span, with a sliver of its course."""

    by: Annotated[list[Annotated[str, Field(max_length=255)]], Field(max_length=10)] = []
    limit: float | None = None


class StatesQuery(Strict):
    by: Annotated[str, Field(min_length=1, max_length=110)] = "site"
    below: Annotated[str, Field(max_length=1000)] | None = None


class EventsQuery(Strict):
    text: Annotated[str, Field(max_length=500)] | None = None
    where: FilterText | None = None
    limit: Annotated[int, Field(ge=1, le=100)] = 20


class ListQuery(Strict):
    where: FilterText | None = None
    state: Literal["open", "closed", "recovered"] | None = "open"
    limit: Annotated[int, Field(ge=1, le=100)] = 20


class TextQuery(Strict):
    text: Annotated[str, Field(max_length=10_000)]


class _Panel(Strict):
    title: Annotated[str, Field(max_length=120)] = ""
    at: Annotated[list[int], Field(min_length=4, max_length=4, description="column, row, width, height")]

    @field_validator("at")
    @classmethod
    def _on_the_sheet(cls, at: list[int]) -> list[int]:
        column, row, width, height = at
        if not (0 <= column < COLUMNS and 0 <= row <= 1000 and 1 <= width <= COLUMNS - column and 1 <= height <= 40):
            raise ValueError(
                f"[column, row, width, height]: columns 0 to {COLUMNS - 1}, a width of 1 to {COLUMNS} that fits beside "
                "the column, rows 0 to 1000, a height of 1 to 40"
            )
        return at


class ChartPanel(_Panel):
    kind: Literal["chart"]
    query: ChartQuery


class ValuePanel(_Panel):
    kind: Literal["value"]
    query: ValueQuery


class TablePanel(_Panel):
    kind: Literal["table"]
    query: HostTableQuery


class StatesPanel(_Panel):
    kind: Literal["states"]
    query: StatesQuery = StatesQuery()


class EventsPanel(_Panel):
    kind: Literal["events"]
    query: EventsQuery = EventsQuery()


class PatternsPanel(_Panel):
    kind: Literal["patterns"]
    query: EventsQuery = EventsQuery()


class IncidentsPanel(_Panel):
    kind: Literal["incidents"]
    query: ListQuery = ListQuery()


class AlertsPanel(_Panel):
    kind: Literal["alerts"]
    query: ListQuery = ListQuery()


class TextPanel(_Panel):
    kind: Literal["text"]
    query: TextQuery


Panel = Annotated[
    ChartPanel
    | ValuePanel
    | TablePanel
    | StatesPanel
    | EventsPanel
    | PatternsPanel
    | IncidentsPanel
    | AlertsPanel
    | TextPanel,
    Field(discriminator="kind"),
]


class DashboardBody(Strict):
    about: Annotated[str, Field(max_length=300)] = ""
    variables: Annotated[list[Variable], Field(max_length=MOST_VARIABLES)] = []
    panels: Annotated[list[Panel], Field(max_length=MOST_PANELS)] = []
    shared: bool = False

    @field_validator("variables")
    @classmethod
    def _each_once(cls, variables: list[Variable]) -> list[Variable]:
        names = [variable.name for variable in variables]
        if len(set(names)) < len(names):
            raise ValueError("two variables have the same name")
        return variables


class DashboardDocument(DashboardBody):
    """A dashboard as a file has it."""

    dashboard: Name


class Dashboard(DashboardBody):
    """`from` says what brought it: a kit, with its version; nobody changes that one, but everybody may copy it."""

    name: str
    owner: str
    version: int
    brought_by: Annotated[str | None, Field(alias="from")] = None
    updated_at: str | None
    updated_by: str


class DashboardInList(BaseModel):
    model_config = ConfigDict(populate_by_name=True)

    name: str
    about: str
    owner: str
    shared: bool
    panels: int
    version: int
    brought_by: Annotated[str | None, Field(alias="from")] = None
    updated_at: str | None
    may_change: bool


class DashboardVersion(BaseModel):
    version: int
    at: str
    who: str
    panels: int
    body: DashboardBody


class RestoreDashboard(Strict):
    version: Annotated[int, Field(ge=1)]


class DashboardText(Strict):
    """A dashboard as it is written, in JSON or YAML."""

    text: Annotated[str, Field(max_length=500_000)]


class DashboardRead(BaseModel):
    dashboard: DashboardDocument | None
    problems: list[DocumentProblem]


class DashboardAsked(Strict):
    """What is chosen at the top: the span and, by variable, values; none for all."""

    from_: Annotated[Instant, Field(alias="from")] = "-3h"
    to: Instant = "now"
    step: Duration | None = None
    points: Annotated[int, Field(ge=1, le=2000)] = 200
    variables: Annotated[
        dict[VariableName, Annotated[list[Value], Field(max_length=50)]], Field(max_length=MOST_VARIABLES)
    ] = {}


class PanelAnswer(BaseModel):
    """What a panel shows: by its kind, one of these; or why there is nothing."""

    title: str
    kind: PanelKind
    problem: str = ""
    chart: list[MetricAnswer] | None = None
    usual: list[BaselineAnswer | None] | None = Field(default=None, description="of each question of a chart, if asked")
    value: MetricAnswer | None = Field(default=None, description="one step: the whole span")
    course: MetricAnswer | None = None
    table: HostTable | None = None
    states: Tree | None = None
    events: list[Event] | None = None
    patterns: PatternAnswer | None = None
    incidents: list[Incident] | None = None
    alerts: list[Alert] | None = None
    text: str | None = None


class Choices(BaseModel):
    name: str
    chosen: list[str]
    choices: list[str]


class DashboardAnswer(BaseModel):
    """`panels` in the order of the dashboard; `from` and `to` in unix seconds."""

    model_config = ConfigDict(populate_by_name=True)

    from_: Annotated[float, Field(alias="from")]
    to: float
    panels: list[PanelAnswer]
    variables: list[Choices]
