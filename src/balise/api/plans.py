"""Plans: what to collect where, how often, which files to follow, and which limits differ."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from balise.api.metrics import FilterText
from balise.api.remote import FollowedFile
from balise.api.rules import Limits
from balise.api.services import ServiceTarget
from balise.api.spans import Duration, Name, duration_text, seconds


@dataclass(frozen=True)
class PartAbout:
    """A part of a system that is collected: whether without being asked for, how often, and what that costs."""

    about: str
    cost: str
    on: bool = True
    every: str | None = None
    """How often, when that is not with all others."""


PARTS: Mapping[str, PartAbout] = {
    "cpu": PartAbout("time and shares of the processors, each of them too; the load", "0.3 ms"),
    "memory": PartAbout("memory and swap", "0.2 ms"),
    "filesystem": PartAbout("space and inodes of what is mounted", "0.5 ms"),
    "disk": PartAbout("bytes, operations, latency and queue of disks", "0.5 ms"),
    "network": PartAbout("bytes, packets, errors of interfaces", "0.3 ms"),
    "uptime": PartAbout("how long the system has been up", "0.1 ms"),
    "processes": PartAbout("processes by state, the busiest programs, evidence of the busiest", "2 ms a 100 processes"),
    "pressure": PartAbout("waiting for processor, memory, storage", "0.1 ms"),
    "kernel": PartAbout("context switches, interrupts, file handles, tracked connections, entropy", "0.3 ms"),
    "users": PartAbout("who is signed in, from where, what each uses", "0.2 ms"),
    "clock": PartAbout("whether a time service keeps the clock, and how well", "0.05 ms"),
    "nfs": PartAbout("what goes to file servers, and how long they take", "0.1 ms, 0.2 ms more a mount"),
    "messages": PartAbout("the kernel's messages as events", "0.05 ms"),
    "units": PartAbout(
        "systemd's units and their restarts; with watch, names that must run", "30 ms where systemd runs", every="60s"
    ),
    "containers": PartAbout("what containers take, by control group", "0.5 ms a container", every="60s"),
    "inventory": PartAbout("packages, accounts, ports, certificates and more, hourly", "0.2 s", every="1h"),
    "interrupts": PartAbout(
        "interrupts by device and kind: up to 24 series", "0.3 ms, with many processors several", on=False
    ),
    "smart": PartAbout(
        "the disks' own word on their health; needs smartctl and root's rights", "20 ms a disk", on=False, every="30m"
    ),
    "directories": PartAbout(
        "sizes of directories, their oldest and newest files", "10 s a million files, read slowly", on=False, every="1h"
    ),
}
"""The parts of a system that a plan can switch on or off or slow down. Costs are processor time a reading."""
COLLECTORS = tuple(PARTS)
LEAST = {"smart": 60, "directories": 60}
"""Seconds between readings of heavy parts at least."""
ALLOWANCE = 0.02
"""Share of a core that one part may take on average; one that takes more stops itself."""


class Strict(BaseModel):
    """A misspelt key in a plan is an error, not a plan that silently does something else."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)


class PlanHosts(Strict):
    """Which hosts a plan is for: one, those a filter chooses, those of groups; all, when nothing is said."""

    host: Annotated[str, Field(max_length=100)] | None = None
    hosts: FilterText | None = None
    groups: Annotated[list[Name], Field(min_length=1, max_length=100)] | None = None

    @model_validator(mode="after")
    def _one_way(self) -> PlanHosts:
        if sum(part is not None for part in (self.host, self.hosts, self.groups)) > 1:
            raise ValueError("say which hosts in one way: host, hosts (a filter) or groups")
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


class PlanApplication(Strict):
    """The plan's hosts are parts of an application; each needs these parts of it."""

    name: Name
    needs: Annotated[list[Name], Field(max_length=50)] = []


class PlanBody(Strict):
    """A plan without its name."""

    about: Annotated[str, Field(max_length=200)] = ""
    for_: Annotated[PlanHosts, Field(alias="for")] = PlanHosts()
    order: Annotated[int, Field(ge=-1000, le=1000, description="among plans as particular: the higher is stronger")] = 0
    collect: PlanCollect = PlanCollect()
    follow: Annotated[list[PlanFile], Field(max_length=200)] = []
    limits: Annotated[dict[Name, Limits], Field(max_length=200, description="by rule")] = {}
    application: PlanApplication | None = None


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


class PlanProblem(BaseModel):
    """What is wrong in a plan's text, and where. Lines and columns begin at 1."""

    line: int
    column: int
    field: str
    detail: str


class PlanCheck(BaseModel):
    """Whether a plan's text is good, what is wrong with it, and for whom it would be."""

    good: bool
    name: str | None
    problems: list[PlanProblem]
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


class CollectorSetting(BaseModel):
    """How a part is collected; `watch` and `paths` are what it is told to look at, for parts that have to be told."""

    on: bool = True
    every: float | None = None
    watch: list[str] = []
    paths: list[str] = []


def default_setting(part: str) -> CollectorSetting:
    """How a part is collected that no plan speaks of."""
    about = PARTS.get(part, PartAbout("", ""))
    return CollectorSetting(on=about.on, every=seconds(about.every) if about.every else None)


class PartShown(BaseModel):
    """A part of a system that plans can switch, for people."""

    part: str
    about: str
    cost: str = Field(description="processor time a reading, as measured on a small machine")
    on: bool = Field(description="whether it is collected when no plan speaks of it")
    every: str | None


class EffectivePlan(BaseModel):
    """What an agent, or whoever reads the host, is to do; `sources` names the plan each setting came from."""

    etag: str = ""
    every: float
    collectors: dict[str, CollectorSetting] = {}
    follow: list[FollowedFile] = []
    services: list[ServiceTarget] = []
    refresh: int = Field(default=0, description="another number means: tell the inventory at once")
    sources: dict[str, str] = {}


class HostPlan(BaseModel):
    """What holds for a host, setting by setting, and what its agent could not do of it."""

    settings: list[Setting]
    plans: list[str]
    problems: list[str]
    applied: Literal["yes", "not yet", "no agent"]
