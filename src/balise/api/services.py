"""Services on hosts: who found them, who reads them, and how they answer."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from balise.api.credentials import CredentialBody
from balise.api.hosts import State
from balise.api.kits import KitGrant, KitReading, Scalar, Target
from balise.api.places import Port
from balise.api.spans import Duration, Name, seconds

ServiceMode = Literal["resident", "split", "remote"]

EVENT = "balise.service.facts"
"""The event by which whoever reads a service tells what it says of itself."""


class FoundService(BaseModel):
    """Something that listens on a host, as its agent saw it. `kit` is the kit that fits, if one does."""

    port: Port
    address: Annotated[str, Field(max_length=60)]
    process: Annotated[str, Field(max_length=100)] = ""
    user: Annotated[str, Field(max_length=100, description="who owns the socket")] = ""
    kit: str | None = None


class ServiceTarget(BaseModel):
    """One service to read, with all that is needed to do it. For agents, relays and the console; never for people."""

    id: int
    name: str
    kit: KitReading
    kit_digest: str = Field(default="", description="tells another text of the same version")
    target: Target
    credential: CredentialBody | None = None
    every: float
    time_limit: float


class ServiceBody(BaseModel):
    """A service and who reads it.

    `resident`: the agent of its host. `split`: the agent found it, the console or a relay of `site` reads it.
    `remote`: there is no agent; the console or a relay reads it.
    """

    model_config = ConfigDict(extra="forbid")
    host: Annotated[str, Field(max_length=100)]
    kit: Annotated[str, Field(max_length=60)] = "port"
    mode: ServiceMode
    target: Target = {}
    credential: Name | None = None
    name: Name | None = None
    every: Duration | None = Field(default=None, description="as its kit says, unless given")
    site: Name | None = None

    @model_validator(mode="after")
    def _sensible(self) -> ServiceBody:
        if self.every is not None and not 5 <= seconds(self.every) <= 86_400:
            raise ValueError("every: between 5s and 1d")
        if self.mode == "resident" and self.site:
            raise ValueError("site: the host's own agent reads a resident service")
        return self


class ServiceCollection(BaseModel):
    mode: ServiceMode
    by: str
    problem: str | None
    at: str | None = None
    seconds: float | None = Field(default=None, description="how long the last reading took")


class ServicePart(BaseModel):
    """How one part of a kit went when it was last read."""

    part: str
    seconds: float
    problem: str | None = None
    note: str | None = None


class ServiceTurn(BaseModel):
    """How reading a service went: `problem` when it could not be read, `problems` of single parts otherwise."""

    problem: Annotated[str, Field(max_length=1000)] | None
    problems: Annotated[list[Annotated[str, Field(max_length=1000)]], Field(max_length=60)] = []
    parts: Annotated[list[ServicePart], Field(max_length=60)] = []
    seconds: float | None = None


class ServiceStep(BaseModel):
    """Something that happened to a service: its state, version, identity, kit or reader changed."""

    at: str
    what: Literal["added", "state", "answering", "version", "identity", "role", "kit", "collection"]
    before: str
    after: str


class SessionNow(BaseModel):
    """One session of a service. `root` is the session at the head of the chain it waits in, `depth` how far behind."""

    id: str
    user: str
    application: str
    client: str
    state: str
    statement: str
    since: str | None
    seconds: float
    blocked_by: str | None
    root: str | None
    depth: int


class Sessions(BaseModel):
    """The sessions of a service at a moment: in chains first, then those that work, longest first."""

    at: str | None
    items: list[SessionNow]


class ServiceTable(BaseModel):
    """Rows that a kit keeps, as they were at a moment."""

    name: str
    about: str
    columns: dict[str, str]
    at: str | None
    rows: list[dict[str, Scalar]]


class Proposal(BaseModel):
    """A service that was found and is not read yet, with the kit that fits and what it would take to read it."""

    host: str
    kit: str
    title: str
    found: str = Field(description="what it was known by")
    target: Target
    mode: ServiceMode
    free: bool = Field(description="nothing has to be granted: it can be read at once")
    grant: KitGrant | None = None
    credential: str | None = Field(default=None, description="the kind of credential it needs")


class AcceptProposals(BaseModel):
    """Proposals to take up: of these hosts and kits (all, when none is named)."""

    model_config = ConfigDict(extra="forbid")
    hosts: Annotated[list[Annotated[str, Field(max_length=100)]], Field(max_length=5000)] = []
    kits: Annotated[list[Annotated[str, Field(max_length=60)]], Field(max_length=300)] = []
    credential: Name | None = None


class Accepted(BaseModel):
    added: list[Service]
    failed: dict[str, str] = Field(description="by host and kit, why")


class ServiceAlert(BaseModel):
    """An open alert on a service."""

    id: int
    rule: str
    severity: Literal["warning", "critical"]


class Service(BaseModel):
    id: int
    name: str
    host: str
    kit: str
    kit_version: str
    state: State
    version: str | None = Field(description="the software's own version, once it was read")
    facts: dict[str, str] = {}
    target: Target
    credential: str | None
    every: str
    site: str | None
    collection: ServiceCollection
    parts: list[ServicePart] = []
    alerts: list[ServiceAlert] = []


class HostServices(BaseModel):
    """The services of a host, and what listens there and is not read yet."""

    items: list[Service]
    found: list[FoundService]
