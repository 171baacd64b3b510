"""Plans: what to collect where, how often, which files to follow, and which limits differ."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from balise.api.limits import Limits
from balise.api.metrics import FilterName, FilterText
from balise.api.parts import COLLECTORS
from balise.api.problems import DocumentProblem
from balise.api.remote import FollowedFile
from balise.api.spans import Duration, Name, duration_text, instant, seconds

LEAST = {"smart": 60, "directories": 60}
"""Seconds between readings of heavy parts at least."""


class Strict(BaseModel):
    """A misspelt key in a plan is an error, not a plan that silently does something else."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)


class PlanHosts(Strict):
    """Which hosts a plan is for: one, those a filter chooses, those of groups; all, when nothing is said."""

    host: Annotated[str, Field(max_length=100)] | None = None
    hosts: FilterText | None = None
    groups: Annotated[list[Name], Field(min_length=1, max_length=100)] | None = None
    filter: FilterName | None = Field(default=None, description="hosts by a filter that has a name, as it is now")

    @model_validator(mode="after")
    def _one_way(self) -> PlanHosts:
        if sum(part is not None for part in (self.host, self.hosts, self.groups, self.filter)) > 1:
            raise ValueError("say which hosts in one way: host, hosts (a filter), filter (its name) or groups")
        return self


class CollectorPlan(Strict):
    """How one part of the system is collected."""

    every: Duration


class UnitsPlan(Strict):
    """How units are collected. `watch` names what must run: units, or processes where there is no systemd."""

    every: Duration | None = None
    watch: Annotated[list[Annotated[str, Field(pattern=r"^[\w@.:-]{1,100}$")]], Field(max_length=50)] = []


class DirectoriesPlan(Strict):
    """Whose sizes are collected: each is looked at wholly, but within 500,000 entries and two minutes."""

    every: Duration | None = None
    paths: Annotated[
        list[Annotated[str, Field(pattern=r"^/[^\x00-\x1f]*$", max_length=500)]], Field(min_length=1, max_length=20)
    ]


class JournalPlan(Strict):
    """The systemd journal: the system's own, or journal files."""

    every: Duration | None = None
    paths: Annotated[
        list[Annotated[str, Field(pattern=r"^/[^\x00-\x1f]*\.journal$", max_length=500)]], Field(max_length=20)
    ] = []


class PlanCollect(Strict):
    """`every` for all parts; a part may be `off`, `on`, or have an interval of its own, a multiple of that."""

    every: Duration | None = None
    cpu: bool | CollectorPlan | None = None
    memory: bool | CollectorPlan | None = None
    filesystem: bool | CollectorPlan | None = None
    disk: bool | CollectorPlan | None = None
    network: bool | CollectorPlan | None = None
    uptime: bool | CollectorPlan | None = None
    processes: bool | CollectorPlan | None = None
    pressure: bool | CollectorPlan | None = None
    kernel: bool | CollectorPlan | None = None
    users: bool | CollectorPlan | None = None
    clock: bool | CollectorPlan | None = None
    nfs: bool | CollectorPlan | None = None
    messages: bool | CollectorPlan | None = None
    journal: bool | JournalPlan | None = None
    units: bool | UnitsPlan | None = None
    containers: bool | CollectorPlan | None = None
    inventory: bool | CollectorPlan | None = None
    interrupts: bool | CollectorPlan | None = None
    smart: bool | CollectorPlan | None = None
    directories: bool | DirectoriesPlan | None = None

    @model_validator(mode="after")
    def _not_too_often(self) -> PlanCollect:
        for name in ("every", *COLLECTORS):
            value = getattr(self, name)
            text = value if name == "every" else getattr(value, "every", None)
            least = LEAST.get(name, 1)
            if text is not None and not least <= seconds(text) <= 86_400:
                raise ValueError(f"{name}: between {duration_text(least)} and 1d")
        if self.directories is True:
            raise ValueError("directories: name them: directories: {paths: [/srv/files]}")
        return self


class PlanFile(FollowedFile):
    """A file to follow; with `stop`, one that a more general plan follows and this one does not."""

    stop: bool = False
    filter: FilterName | None = Field(default=None, description="what is sent, by a filter that has a name")


class PlanApplication(Strict):
    """The plan's hosts are parts of an application; each needs these parts of it."""

    name: Name
    needs: Annotated[list[Name], Field(max_length=50)] = []


class PlanSums(Strict):
    """Metrics whose points a relay adds up, over all hosts of the plan that deliver through it. With `only` it sends
    on the sums alone."""

    metrics: Annotated[
        list[Annotated[str, Field(min_length=1, max_length=255)]],
        Field(min_length=1, max_length=50, description="by name, * for any characters"),
    ]
    every: Duration = "1m"
    only: bool = False

    @model_validator(mode="after")
    def _in_bounds(self) -> PlanSums:
        if not 15 <= seconds(self.every) <= 3600:
            raise ValueError("every: between 15s and 1h")
        return self


class PlanRelay(Strict):
    """What a relay sends on of its hosts: of each series one point in so long, as it came; amounts since the point
    before, and lines, are all sent on. And what it adds up."""

    thin: Duration | None = None
    sums: PlanSums | None = None

    @model_validator(mode="after")
    def _in_bounds(self) -> PlanRelay:
        if self.thin is not None and not 15 <= seconds(self.thin) <= 3600:
            raise ValueError("thin: between 15s and 1h")
        return self


class PlanBody(Strict):
    """A plan without its name."""

    about: Annotated[str, Field(max_length=200)] = ""
    for_: Annotated[PlanHosts, Field(alias="for")] = PlanHosts()
    order: Annotated[int, Field(ge=-1000, le=1000, description="among plans as particular: the higher is stronger")] = 0
    collect: PlanCollect = PlanCollect()
    follow: Annotated[list[PlanFile], Field(max_length=200)] = []
    limits: Annotated[dict[Name, Limits], Field(max_length=200, description="by rule")] = {}
    snooze: Annotated[list[Name], Field(max_length=200, description="rules that are off on these hosts")] = []
    until: Annotated[str, Field(max_length=40)] | None = Field(
        default=None, description="RFC 3339: from then on the plan says nothing, and it is deleted a day later"
    )
    reasons: Annotated[
        dict[Name, Annotated[str, Field(max_length=600)]],
        Field(max_length=200, description="by rule: who set its limits here, when and why"),
    ] = {}
    application: PlanApplication | None = None
    relay: PlanRelay = PlanRelay()
    runs_on: Name | None = Field(default=None, description="the machine that its hosts run on, unless they say another")

    @field_validator("until")
    @classmethod
    def _is_a_time(cls, text: str | None) -> str | None:
        if text is not None:
            instant(text, 0.0)
            if text == "now" or text[0] in "+-":
                raise ValueError("write a time such as 2026-11-30T08:00:00Z: a plan is read at any moment")
        return text

    def is_over(self, now: float) -> bool:
        """Whether the plan says nothing any more."""
        return self.until is not None and instant(self.until, now) <= now


class PlanDocument(PlanBody):
    """A plan as a file: the same keys, and its name under `plan`."""

    plan: Name


class PlanText(BaseModel):
    """A plan as it is written, in YAML."""

    text: Annotated[str, Field(min_length=1, max_length=100_000)]


class Plan(BaseModel):
    """A plan as it is kept."""

    name: str
    version: int
    text: str
    body: dict[str, Any]
    hosts: int = Field(description="how many hosts it is for now")
    updated_at: str
    updated_by: str


class PlanCheck(BaseModel):
    """Whether a plan's text is good, what is wrong with it, and for whom it would be."""

    good: bool
    name: str | None
    problems: list[DocumentProblem]
    hosts: int


class Setting(BaseModel):
    """One effective setting, and the plan it came from."""

    setting: str
    value: str
    plan: str


class PlanChange(BaseModel):
    """What a plan would change on one host: settings as they are and as they would be."""

    host: str
    setting: str
    before: str
    after: str


class PlanDiff(BaseModel):
    items: list[PlanChange]
    hosts: int
    left_out: int


class HostPlan(BaseModel):
    """What holds for a host, setting by setting, and what its agent could not do of it."""

    settings: list[Setting]
    plans: list[str]
    problems: list[str]
    applied: Literal["yes", "not yet", "no agent"]
