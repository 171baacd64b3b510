"""Services on hosts: who found them, who reads them, and how they answer."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from balise.api.hosts import State
from balise.api.places import Address, Port
from balise.api.spans import Duration, Name, seconds

ServiceMode = Literal["resident", "split", "remote"]


class FoundService(BaseModel):
    """Something that listens on a host, as its agent saw it."""

    port: Port
    address: Annotated[str, Field(max_length=60)]
    process: Annotated[str, Field(max_length=100)] = ""


class PortTarget(BaseModel):
    """Where a service listens; without an address the host's own, or loopback when its agent reads it."""

    model_config = ConfigDict(extra="forbid")
    port: Port
    address: Address | None = None


class ServiceTarget(BaseModel):
    """One service to read, with all that is needed to do it. For agents, relays and the console."""

    id: int
    name: str
    address: str
    port: int
    every: float
    time_limit: float


class ServiceBody(BaseModel):
    """A service and who reads it.

    `resident`: the agent of its host. `split`: the agent found it, the console or a relay of `site` reads it.
    `remote`: there is no agent; the console or a relay reads it.
    """

    model_config = ConfigDict(extra="forbid")
    host: Annotated[str, Field(max_length=100)]
    kit: Literal["port"] = "port"
    mode: ServiceMode
    target: PortTarget
    name: Name | None = None
    every: Duration = "30s"
    site: Name | None = None

    @model_validator(mode="after")
    def _sensible(self) -> ServiceBody:
        if not 5 <= seconds(self.every) <= 86_400:
            raise ValueError("every: between 5s and 1d")
        if self.mode == "resident" and self.site:
            raise ValueError("site: the host's own agent reads a resident service")
        return self


class ServiceCollection(BaseModel):
    mode: ServiceMode
    by: str
    problem: str | None


class Service(BaseModel):
    id: int
    name: str
    host: str
    kit: str
    state: State
    target: PortTarget
    every: str
    site: str | None
    collection: ServiceCollection


class HostServices(BaseModel):
    """The services of a host, and what listens there and is not read yet."""

    items: list[Service]
    found: list[FoundService]
