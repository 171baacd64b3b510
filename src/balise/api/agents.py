"""What an agent and the console say to each other besides OTLP."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel

from balise.api.hosts import Facts
from balise.api.secrets import OfLength, Secret
from balise.api.spans import Name


class EnrolRequest(BaseModel):
    """`take_over` asks for the identity and history of this machine, or this name, where another collector has it."""

    key: Annotated[Secret, OfLength(0, 200)]
    facts: Facts
    take_over: bool = False


class EnrolAnswer(BaseModel):
    """`waiting` when the key asks for somebody's approval: the token works from that moment on."""

    host: str
    host_id: int
    token: str
    every_seconds: int
    state: Literal["enrolled", "waiting"] = "enrolled"


class KeyCheck(BaseModel):
    key: Annotated[Secret, OfLength(0, 200)]
    facts: Facts


class KeyAnswer(BaseModel):
    """Whether enrolling would work, without doing it."""

    good: bool
    detail: str


class AgentSelf(BaseModel):
    """What the console knows of the agent that asks. `now` is the console's clock, unix seconds."""

    host: str
    state: Literal["enrolled", "waiting"]
    now: float
    token_made_at: float | None


class RenewedToken(BaseModel):
    """The token that takes the place of the one it was asked with, from its first use on."""

    token: str


class FactsChange(BaseModel):
    facts: Facts


class Candidate(BaseModel):
    """What waits to be let in: a machine with a key (`agent`), or who speaks to a receiver and is no host (`sender`).

    Of a sender it is said how much it said, and whether its name is that of its messages or its address; one that was
    refused is kept so that it stays refused.
    """

    id: int
    kind: Literal["agent", "sender"] = "agent"
    name: str
    facts: Facts
    key: str
    origin: str
    asked_at: str
    receiver: str = ""
    named_by: Literal["name", "address"] | None = None
    events: int = 0
    last_at: str | None = None
    refused: bool = False


class Approval(BaseModel):
    """Under which name a machine is let in; its own, unless given."""

    name: Name | None = None
