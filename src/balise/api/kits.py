"""Kits: what Balise knows of one kind of service, as a document that people can read, write and check."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, model_validator

from balise.api.events import Severity
from balise.api.metrics import MetricName
from balise.api.spans import Duration, Name
from balise.api.strict import Strict
from balise.api.trail import SignKind

Scalar = str | int | float | bool | None
Target = dict[Annotated[str, Field(max_length=40)], Scalar]
"""Where a service is and how it is reached, field by field as its kit wants it."""
SourceName = Literal[
    "postgresql",
    "mariadb",
    "redis",
    "http",
    "socket",
    "command",
    "file",
    "snmp",
    "dns",
    "port",
    "sql",
    "greeting",
]
Column = Annotated[str, Field(min_length=1, max_length=200)]
Key = Annotated[str, Field(min_length=1, max_length=100)]
Sentence = Annotated[str, Field(min_length=1, max_length=300)]


class KitRecognise(Strict):
    """How the service is known on a host: any of these is enough. Packages may end in `*`."""

    process: Annotated[list[Key], Field(max_length=20)] = []
    port: Annotated[list[Annotated[int, Field(ge=1, le=65_535)]], Field(max_length=20)] = []
    package: Annotated[list[Key], Field(max_length=20)] = []
    unit: Annotated[list[Key], Field(max_length=20)] = []


class KitField(Strict):
    """One field of the target."""

    about: Sentence
    kind: Literal["text", "address", "port", "number", "url", "path", "choice", "flag"] = "text"
    needed: bool = False
    default: Scalar = None
    choices: Annotated[list[str], Field(max_length=30)] = []
    example: Annotated[str, Field(max_length=200)] = ""


class KitCredential(Strict):
    kind: Literal["login", "ssh", "snmp"]
    needed: bool = False


class KitGrant(Strict):
    """What has to be allowed on the service before it can be read, with no more rights than that takes."""

    about: Sentence
    statements: Annotated[str, Field(min_length=1, max_length=4000)]


class KitSplit(Strict):
    """Several columns as one metric: the attribute says which column a value is from."""

    attribute: Key
    columns: Annotated[dict[Key, Column], Field(min_length=1, max_length=60)]


class KitMetric(Strict):
    """A metric, and where in a row its value stands.

    `states` gives numbers to words; `*` stands for every other word. `scale` is multiplied with the value.
    """

    about: Sentence
    unit: Annotated[str, Field(min_length=1, max_length=60)]
    kind: Literal["gauge", "counter"] = "gauge"
    column: Column | None = None
    split: KitSplit | None = None
    scale: float = 1.0
    states: Annotated[dict[str, float], Field(max_length=40)] = {}
    least: float | None = Field(default=None, description="lower values mean that there is none: -1 for no limit")
    attributes: Annotated[dict[Key, str], Field(max_length=10)] = {}
    tells: SignKind | None = Field(
        default=None, description="what it tells of work, for the trail; without, the words of its name say so"
    )

    @model_validator(mode="after")
    def _from_somewhere(self) -> KitMetric:
        if (self.column is None) == (self.split is None):
            raise ValueError("say where the value stands: either column or split")
        return self


class KitFree(Strict):
    """Every number of a row as a value of one metric, its column in an attribute; words become attributes."""

    metric: MetricName
    about: Sentence
    unit: Annotated[str, Field(min_length=1, max_length=60)] = "1"
    attribute: Key


class KitEach(Strict):
    """A part that is read once for each row of a question: the column's value replaces a field of the target."""

    ask: dict[str, Any]
    column: Column
    field: Key
    most: Annotated[int, Field(ge=1, le=50)] = 20


class KitTable(Strict):
    """Rows kept as they are, to be looked at for any moment: `name` tells them apart on the service's page."""

    name: Annotated[str, Field(pattern=r"^[a-z][a-z-]{1,30}$")]
    about: Sentence
    columns: Annotated[dict[Column, str], Field(max_length=30)] = Field(
        default={}, description="the columns kept, each with its heading; all, when none is named"
    )
    most: Annotated[int, Field(ge=1, le=200)] = 50


def _listed(held: Any) -> Any:
    """One description may stand alone; several, for different attributes, are a list."""
    return [held] if isinstance(held, dict) else held


class KitPart(Strict):
    """One question to the service, and what its rows mean.

    `optional` says what the part needs that not every service has: when it fails, that is no problem.
    """

    part: Annotated[str, Field(pattern=r"^[a-z][a-z0-9-]{1,30}$")]
    by: SourceName | None = None
    every: Duration | None = None
    ask: dict[str, Any] = {}
    each: KitEach | None = None
    optional: Annotated[str, Field(max_length=300)] | None = None
    where: Annotated[dict[Column, list[str]], Field(max_length=5)] = Field(
        default={}, description="only rows whose columns have one of these values"
    )
    attributes: Annotated[dict[Key, Column], Field(max_length=10)] = {}
    metrics: Annotated[
        dict[MetricName, Annotated[list[KitMetric], BeforeValidator(_listed)]], Field(max_length=80)
    ] = {}
    free: KitFree | None = None
    samples: bool = Field(default=False, description="rows are samples of an OpenMetrics text, under their own names")
    facts: Annotated[dict[Literal["version", "identity", "role"], Column], Field(max_length=3)] = {}
    keep: KitTable | None = None
    sessions: bool = False
    configuration: Annotated[dict[Literal["name", "value"], Column], Field(max_length=2)] = {}


class KitLog(Strict):
    """A log of the service. `path` may name fields of the target: `{log}`; without a value it is not followed.

    `form` is `regex` (with `pattern`, whose named groups are the fields), `json` or `csv` (with `columns`).
    The fields `time`, `severity` and `body` are the event's own, the others become attributes as `attributes` says.
    """

    log: Annotated[str, Field(pattern=r"^[a-z][a-z-]{1,30}$")]
    about: Sentence
    path: Annotated[str, Field(min_length=2, max_length=400)]
    form: Literal["plain", "regex", "json", "csv"] = "plain"
    pattern: Annotated[str, Field(max_length=2000)] = ""
    columns: Annotated[list[Key], Field(max_length=60)] = []
    time: Key | None = None
    time_form: Annotated[str, Field(max_length=60)] = ""
    body: Key | None = None
    severity: Key | None = None
    severities: Annotated[dict[str, Severity], Field(max_length=40)] = {}
    attributes: Annotated[dict[Key, Key], Field(max_length=30)] = {}
    deliver: Literal["all", "problems", "none"] = Field(
        default="all", description="problems: warnings and worse; what is counted need not be kept line by line"
    )
    tally: Annotated[dict[Key, Key], Field(max_length=6)] = Field(
        default={}, description="lines are counted by these fields: attribute and field"
    )
    duration: Key | None = Field(default=None, description="a field in seconds, of which percentiles are told")
    metrics: Annotated[dict[MetricName, KitMetric], Field(max_length=20)] = {}

    @model_validator(mode="after")
    def _whole(self) -> KitLog:
        if self.form == "regex" and not self.pattern:
            raise ValueError("form regex needs a pattern")
        if self.form == "csv" and not self.columns:
            raise ValueError("form csv needs columns")
        return self


class KitReading(Strict):
    """What of a kit is known to who reads a service with it: an agent, a relay."""

    kit: Annotated[str, Field(pattern=r"^[a-z][a-z0-9-]{1,40}$")]
    version: Annotated[str, Field(pattern=r"^\d{1,4}(\.\d{1,4}){0,2}$")]
    title: Annotated[str, Field(min_length=1, max_length=60)]
    about: Annotated[str, Field(max_length=1000)]
    by: SourceName
    generic: bool = False
    cost: Annotated[str, Field(max_length=300)] = ""
    every: Duration = "30s"
    recognise: KitRecognise = KitRecognise()
    target: Annotated[dict[Key, KitField], Field(max_length=20)] = {}
    credential: KitCredential | None = None
    grant: KitGrant | None = None
    system: Annotated[list[Key], Field(max_length=20)] = Field(
        default=[], description="parts of the operating system itself, which the plan switches on and off"
    )
    read: Annotated[list[KitPart], Field(max_length=40)] = []
    logs: Annotated[list[KitLog], Field(max_length=10)] = []


class TriedMetric(BaseModel):
    name: str
    unit: str
    attributes: dict[str, str]
    value: float


class TriedPart(BaseModel):
    """One part of a trial: how long it took, and what it gave."""

    part: str
    seconds: float
    rows: int
    values: int
    problem: str | None = None
    note: str | None = None


class Tried(BaseModel):
    """What reading a target once with a kit gave."""

    kit: str
    version: str
    target: Target
    seconds: float
    facts: dict[str, str]
    parts: list[TriedPart]
    metrics: list[TriedMetric]
    tables: dict[str, list[dict[str, Scalar]]]
    problems: list[str]


class KitTrial(BaseModel):
    """A kit to be tried once from the console."""

    model_config = ConfigDict(extra="forbid")
    target: Target = {}
    credential: Name | None = None
    time_limit: Duration = "10s"
