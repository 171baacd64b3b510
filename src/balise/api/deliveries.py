"""The record of what was told to whom."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field


class Delivery(BaseModel):
    """One telling of one thing by one channel."""

    id: int
    alert: int | None
    incident: int | None = None
    channel: str
    person: str | None = None
    callout: str | None = None
    kind: Literal["opened", "changed", "recovered", "console", "test"]
    state: Literal["waiting", "sent", "given-up"]
    attempts: int
    created_at: str
    next_at: str | None
    sent_at: str | None
    problem: str | None
    answer: str | None = Field(default=None, description="what the other side answered")
    sent: dict[str, object] = Field(default={}, description="what was told, without secrets")
