"""Who may come in: users, sessions, tokens, enrolment keys."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, Field

from balise.api.hosts import LabelKey, LabelValue
from balise.api.spans import Duration, Name

Role = Literal["viewer", "operator", "administrator", "ingest"]
PersonRole = Literal["viewer", "operator", "administrator"]
Password = Annotated[str, Field(min_length=8, max_length=200)]


class SignIn(BaseModel):
    name: Name
    password: Annotated[str, Field(min_length=1, max_length=200)]


class Me(BaseModel):
    """Who is asking; `name` is null when nobody is signed in."""

    name: str | None
    role: Role | Literal["agent", "relay", "waiting"] | None


class NewUser(BaseModel):
    name: Name
    role: PersonRole
    password: Password


class User(BaseModel):
    name: str
    role: PersonRole
    created_at: str
    signed_in_at: str | None


class NewToken(BaseModel):
    name: Name
    role: Role
    expires_in: Duration | None = None


class Token(BaseModel):
    id: int
    name: str
    role: Role
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
    labels: Annotated[dict[LabelKey, LabelValue], Field(max_length=32)] = {}
    approval: Literal["automatic", "manual"] = "automatic"


class EnrolmentKey(BaseModel):
    id: int
    label: str
    group: str | None
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
