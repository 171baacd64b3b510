"""Drills: practice incidents, sent the real way."""

from __future__ import annotations

from pydantic import BaseModel, Field


class DrillStarted(BaseModel):
    id: int


class DrillTold(BaseModel):
    channel: str
    person: str | None
    seconds: float | None = Field(description="from the beginning of the drill; null for what is not through yet")
    problem: str | None = None


class Drill(BaseModel):
    """A practice incident, sent the real way."""

    id: int
    callout: str
    incident: int
    started_at: str
    started_by: str
    told: list[DrillTold]
    answered_by: str | None
    answered_after: float | None = None
    ended_at: str | None = None
