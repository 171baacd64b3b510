"""Alerts, and what was captured at the moment of the breach."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, Field

from balise.api.limits import LimitKind

AlertSeverity = Literal["warning", "critical"]


class Baseline(BaseModel):
    """What is usual at this hour of the week, and a robust deviation from it."""

    middle: float
    spread: float


class Alert(BaseModel):
    """One breach of one rule on one thing, from opening to recovery."""

    id: int
    rule: str
    about: str
    severity: AlertSeverity
    state: Literal["open", "recovered"]
    silent: bool = Field(description="open, but its data has stopped")
    host: str
    attributes: dict[str, str]
    metric: str
    unit: str
    value: float
    worst_value: float
    limit: float
    kind: LimitKind
    baseline: Baseline | None = Field(default=None, description="of a limit that says unusual: what is usual now")
    reaches_at: float | None = Field(default=None, description="when it runs out, unix seconds")
    earliest: float | None = None
    latest: float | None = None
    flapping: bool = Field(default=False, description="it opened and recovered often: it stays open until it is calm")
    clue: str | None = Field(description="what stands out in the evidence; no proof")
    opened_at: str
    changed_at: str
    recovered_at: str | None
    recovery: str | None = Field(description="why it ended: recovered, rule changed or rule deleted")
    acknowledged_by: str | None
    acknowledged_at: str | None
    acknowledged_note: str | None


class AlertDetail(Alert):
    advice: str
    limits: dict[str, Any]
    measure: dict[str, Any]
    evidence: dict[str, Any]
    story: list[dict[str, Any]] = Field(description="what happened to this alert, oldest first")
    incident: int | None = Field(default=None, description="the incident that it is a part of")
    told: list[dict[str, Any]] = Field(
        description="who was told of it or of its incident, by which channel, with what result"
    )


class Acknowledge(BaseModel):
    note: Annotated[str, Field(max_length=500)] = ""
