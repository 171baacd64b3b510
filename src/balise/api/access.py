"""Who may come in: users, sessions, tokens, enrolment keys."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from balise.api.hosts import LabelKey, LabelValue
from balise.api.metrics import FilterText, NamedFilter
from balise.api.secrets import OfLength, Secret
from balise.api.spans import Duration, Name
from balise.api.strict import Strict

Role = Literal["viewer", "operator", "administrator", "ingest", "calendar", "screen"]
PersonRole = Literal["viewer", "operator", "administrator"]
Password = Annotated[Secret, OfLength(8, 200)]


class SignIn(BaseModel):
    name: Name
    password: Annotated[Secret, OfLength(1, 200)]


class Me(BaseModel):
    """Who is asking; `name` is null when nobody is signed in."""

    name: str | None
    role: Role | Literal["agent", "relay", "waiting"] | None
    first_page: str = Field(default="", description="of the console, after signing in; empty for Now")


class FirstPage(Strict):
    """A page of the console, as its address says it: `/dashboards/morning?from=-24h`; empty for Now."""

    page: Annotated[str, Field(max_length=1000, pattern=r"^(/[A-Za-z0-9][\x21-\x5b\x5d-\x7e]*)?$")]


class NewUser(BaseModel):
    name: Name
    role: PersonRole
    password: Password


class User(BaseModel):
    name: str
    role: PersonRole
    created_at: str
    signed_in_at: str | None


class Scope(BaseModel):
    """What a token of role ingest may deliver, and what one of role screen may see."""

    model_config = ConfigDict(extra="forbid")
    hosts: FilterText | None = Field(
        default=None, description="for hosts that this filter chooses; of a new host only its name is known"
    )
    filter: NamedFilter = None
    kinds: Annotated[list[Literal["metrics", "logs"]], Field(min_length=1, max_length=2)] = ["metrics", "logs"]
    new_hosts: Annotated[int, Field(ge=0, le=20_000)] = Field(
        default=1000, description="how many hosts it may make by sending for them"
    )
    collected: bool = Field(
        default=False, description="also for hosts that an agent, a relay or the console collects from"
    )
    dashboards: Annotated[list[Name], Field(max_length=50)] = Field(
        default=[], description="of a token of role screen: the dashboards it sees, and nothing else"
    )


class NewToken(BaseModel):
    name: Name
    role: Role
    expires_in: Duration | None = None
    scope: Scope | None = Field(default=None, description="of a token of role ingest; as its defaults say without one")

    @model_validator(mode="after")
    def _only_what_delivers(self) -> NewToken:
        if self.scope is not None and self.role not in ("ingest", "screen"):
            raise ValueError("scope: only a token of role ingest or screen has one")
        if self.role == "screen" and not (self.scope and self.scope.dashboards):
            raise ValueError("scope.dashboards: name the dashboards that the screen shows")
        return self


class Token(BaseModel):
    id: int
    name: str
    role: Role
    scope: Scope | None = None
    new_hosts: int = Field(default=0, description="hosts it has made so far")
    created_at: str
    expires_at: str | None
    used_at: str | None


class MadeToken(Token):
    token: str = Field(description="shown once")


class NewEnrolmentKey(BaseModel):
    label: Annotated[str, Field(min_length=1, max_length=100)]
    uses: Annotated[int, Field(ge=1, le=100_000)] = 1
    expires_in: Duration = "24h"
    group: Name | None = None
    site: Name | None = Field(
        default=None, description="relays that come with it serve this site, and read its hosts; without one, none"
    )
    labels: Annotated[dict[LabelKey, LabelValue], Field(max_length=32)] = {}
    approval: Literal["automatic", "manual"] = "automatic"


class EnrolmentKey(BaseModel):
    id: int
    label: str
    group: str | None
    site: str | None = None
    labels: dict[str, str] = {}
    approval: Literal["automatic", "manual"] = "automatic"
    created_at: str
    expires_at: str
    revoked_at: str | None = None
    uses_left: int
    enrolled: list[str] = Field(default=[], description="hosts and relays that came with it")
    waiting: int = Field(0, description="machines that wait to be let in")


class MadeEnrolmentKey(EnrolmentKey):
    key: str = Field(description="shown once")
    command: str
