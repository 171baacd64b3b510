"""Applications: what people outside know by name, its parts, and which part needs which."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, Field, model_validator

from balise.api.hosts import State
from balise.api.spans import Name
from balise.api.strict import Strict

MOST_PARTS = 300
HostName = Annotated[str, Field(min_length=1, max_length=100)]


class ApplicationPart(Strict):
    """A station of an application: a host, a service on one, a group of hosts, or a probe."""

    name: Name
    about: Annotated[str, Field(max_length=200)] = ""
    host: HostName | None = None
    service: Annotated[str, Field(max_length=100)] | None = Field(default=None, description="its name on the host")
    group: Name | None = None
    probe: Name | None = None

    @model_validator(mode="after")
    def _one_thing(self) -> ApplicationPart:
        if sum(one is not None for one in (self.host, self.group, self.probe)) != 1:
            raise ValueError("a part is one of host (with or without service), group or probe")
        if self.service is not None and self.host is None:
            raise ValueError("service: say on which host")
        return self


class Need(Strict):
    """A part needs others: of those in `to` at least so many (all, unless said)."""

    from_: Annotated[Name, Field(alias="from")]
    to: Annotated[list[Name], Field(min_length=1, max_length=50)]
    at_least: Annotated[int, Field(ge=1, le=50)] | None = None

    @model_validator(mode="after")
    def _possible(self) -> Need:
        if self.at_least is not None and self.at_least > len(self.to):
            raise ValueError("at_least: more than there are")
        if self.from_ in self.to:
            raise ValueError("a part does not need itself")
        return self


class ApplicationBody(Strict):
    about: Annotated[str, Field(max_length=300)] = ""
    position: Annotated[int, Field(ge=0, le=10_000)] = 0
    parts: Annotated[list[ApplicationPart], Field(max_length=MOST_PARTS)] = []
    needs: Annotated[list[Need], Field(max_length=1000)] = []

    @model_validator(mode="after")
    def _hangs_together(self) -> ApplicationBody:
        names = [part.name for part in self.parts]
        twice = next((name for name in names if names.count(name) > 1), None)
        if twice is not None:
            raise ValueError(f"parts: there are two called {twice!r}")
        for need in self.needs:
            missing = next((name for name in (need.from_, *need.to) if name not in names), None)
            if missing is not None:
                raise ValueError(f"needs: there is no part {missing!r}")
        return self


class Figure(BaseModel):
    """One figure of a part now."""

    name: str
    value: float | None
    unit: str


class StationAlert(BaseModel):
    """An open alert on a part."""

    id: int
    about: str
    severity: Literal["warning", "critical"]
    value: float | None
    limit: float | None
    unit: str


class Station(ApplicationPart):
    """A part as it is now. `own` is its own state, `state` with what it needs; `rank` 0 is the users' side."""

    own: State
    state: State
    rank: int
    because: list[str] = Field(description="parts that make its state worse than its own")
    needed_by: list[str]
    service_id: int | None = None
    figure: Figure | None = None
    alerts: list[StationAlert] = Field(default=[], description="open alerts on it, the worst first")
    from_plan: str | None = None


class Application(BaseModel):
    name: str
    about: str
    position: int
    state: State
    because: list[str] = Field(description="the parts that are not well by themselves, the worst first")
    parts: list[Station]
    needs: list[Need]
    updated_at: str
    updated_by: str


class Dependent(BaseModel):
    """A part of an application that stands for a host, service or probe, and what depends on it."""

    application: str
    part: str
    needed_by: list[str]
    state: State


class Talk(BaseModel):
    """A connection that was observed: who talks to whose listening port."""

    from_host: str
    to_host: str
    to_service: str | None
    port: int
    process: str
    seen: int = Field(description="how often it was seen when agents looked")
    known: bool = Field(description="whether an application has this edge already")
