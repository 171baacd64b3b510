"""Hosts, their states, groups, and what is known of each."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from balise.api.metrics import FilterText, NamedFilter
from balise.api.spans import Name

State = Literal["ok", "warning", "critical", "silent", "paused"]
STATES_WORST_FIRST: tuple[State, ...] = ("critical", "warning", "silent", "ok", "paused")
"""The order in which states are listed; `paused` never worsens a roll-up."""

LabelKey = Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$")]
LabelValue = Annotated[str, Field(max_length=200)]

NOBODYS = ("received", "probed")
"""Modes of hosts that nobody collects from: known from what senders say, or from probes alone."""


class Facts(BaseModel):
    """What a collector says of the host it runs on. Sizes in bytes, times in unix seconds."""

    host_name: Annotated[str, Field(min_length=1, max_length=100)]
    machine_id: Annotated[str, Field(max_length=100)] = ""
    os: Annotated[str, Field(max_length=200)] = ""
    kernel: Annotated[str, Field(max_length=200)] = ""
    architecture: Annotated[str, Field(max_length=40)] = ""
    cores: Annotated[int, Field(ge=0, le=100_000)] = 0
    memory: Annotated[int, Field(ge=0)] = 0
    boot_time: float = 0.0
    addresses: Annotated[list[str], Field(max_length=64)] = []
    time_zone: Annotated[str, Field(max_length=60)] = ""
    virtual: Annotated[str, Field(max_length=60)] = ""
    agent_version: Annotated[str, Field(max_length=40)] = ""


class Collection(BaseModel):
    """How a host is collected, by whom, how far behind, and the last thing that went wrong."""

    mode: Literal["resident", "remote", "split", "received", "probed"]
    by: str
    delay_seconds: float | None
    cost_seconds: float | None = Field(None, description="processor time of an agent's, or length of a remote reading")
    problem: str | None = None
    clock_seconds: float | None = Field(
        None, description="how far the host's clock is ahead of the console's; negative: behind; null: it does not say"
    )


class Host(BaseModel):
    id: int
    name: str
    known_since: str = Field(description="when it came here")
    state: State
    state_since: str
    labels: dict[str, str]
    groups: list[str]
    os: str
    facts: Facts | None
    agent: dict[str, Any] | None = Field(description="the agent's last report of itself")
    last_seen: str | None
    collection: Collection
    open_alerts: int
    runs_on: str | None = Field(default=None, description="the machine that it runs on, when that is a host here")
    runs_on_by: str = Field(default="", description="who says so: its label, or a plan")
    carries: list[str] = Field(default=[], description="the hosts that run on it, at most 200")
    retired_at: str | None = None


class HostChange(BaseModel):
    """What a person may change of a host; a field left out stays."""

    labels: dict[LabelKey, LabelValue] | None = None
    groups: list[Name] | None = None
    runs_on: Annotated[str, Field(max_length=100)] | None = Field(
        default=None, description="the machine that it runs on, kept as its label runs-on; empty for none"
    )


class Stretch(BaseModel):
    """One state from a moment on, until the next."""

    at: float
    state: State


class HostsChange(BaseModel):
    """One change of many hosts: those named, or those that pass a filter."""

    model_config = ConfigDict(extra="forbid")
    hosts: Annotated[list[str], Field(max_length=10_000)] | None = None
    where: FilterText | None = None
    filter: NamedFilter = None
    set_labels: Annotated[dict[LabelKey, LabelValue], Field(max_length=32)] = {}
    remove_labels: Annotated[list[LabelKey], Field(max_length=32)] = []
    join: Annotated[list[Name], Field(max_length=32)] = []
    leave: Annotated[list[Name], Field(max_length=32)] = []

    @model_validator(mode="after")
    def _of_some(self) -> HostsChange:
        if (self.hosts is None) == (self.where is None and self.filter is None):
            raise ValueError("say which hosts: either hosts or where")
        return self


class HostsChanged(BaseModel):
    changed: int


class GroupBody(BaseModel):
    """What a group is. A field left out of a change stays; `hosts` lists members, `where` chooses more of them."""

    model_config = ConfigDict(extra="forbid")
    kind: Literal["group", "site"] = "group"
    about: Annotated[str, Field(max_length=200)] = ""
    parent: Name | None = None
    where: FilterText | None = None
    filter: NamedFilter = None
    hosts: Annotated[list[str], Field(max_length=10_000)] | None = None


class ViewBody(BaseModel):
    """A way to look at the fleet: its filter, the columns shown, and the order."""

    model_config = ConfigDict(extra="forbid")
    where: FilterText = ""
    filter: NamedFilter = None
    columns: Annotated[list[Annotated[str, Field(max_length=2100)]], Field(max_length=20)] = []
    sort: Annotated[str, Field(max_length=2100)] = "state"
    descending: bool = False
    group_by: Annotated[str, Field(max_length=110)] = ""


class View(ViewBody):
    name: str
    updated_by: str


class GroupPreview(BaseModel):
    where: FilterText


class GroupMatch(BaseModel):
    """What a filter would choose: how many, and the first of them."""

    count: int
    hosts: list[str]


class Group(BaseModel):
    name: str
    kind: Literal["group", "site"] = "group"
    about: str = ""
    parent: str | None = None
    where: str | None = None
    listed: int = 0
    hosts: int
    states: dict[State, int]
    state: State
    ribbon: list[Stretch]
    last_change: dict[str, Any] | None = None


class ProcessUse(BaseModel):
    """One process (or all of one name) over a span: mean CPU in cores, highest memory in bytes."""

    name: str
    user: str
    pids: list[int]
    cpu: float
    memory: float
    seen: int


class Session(BaseModel):
    """One session of a service and what it waits for."""

    id: str
    service: str
    user: str
    application: str
    client: str
    state: str
    statement: str
    seconds: float
    blocked_by: str | None
    root: str | None
    depth: int
    at: float


class PersonSignedIn(BaseModel):
    """Somebody signed in to a host: since how long (seconds), and what the terminal's processes use (cores, bytes)."""

    user: str
    terminal: str
    origin: str
    seconds: float
    cpu: float
    memory: float
    at: float


class Evidence(BaseModel):
    """What a host kept besides its series, over one span."""

    processes: list[ProcessUse]
    sessions: list[Session]
    signed_in: list[PersonSignedIn] = []
    snapshots: int
