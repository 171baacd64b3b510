"""Incidents: what a person has to deal with, and what people do with it."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, Field, model_validator

from balise.api.alerts import AlertSeverity
from balise.api.hosts import State
from balise.api.spans import Instant, Name
from balise.api.strict import Strict

IncidentState = Literal["open", "closed"]
LineKind = Literal[
    "alert",
    "event",
    "change",
    "action",
    "note",
    "told",
    "taken",
    "handed-over",
    "snoozed",
    "joined",
    "parted",
    "closed",
]
Id = Annotated[int, Field(ge=1, le=2**63 - 1)]
NoteText = Annotated[str, Field(max_length=2000)]


class Hurt(BaseModel):
    """An application that an incident touches, and how its users notice."""

    application: str
    how: str
    state: State = Field(default="ok", description="where its users meet it")


class LikelyCause(BaseModel):
    """The first suspect of its trail."""

    suspect: str
    sentence: str
    sure: float = Field(description="how likely it is the cause, 0 to 1")


class IncidentAlert(BaseModel):
    """An alert of an incident. `held_under` is the alert that is its cause; `why` says why it is here, or held."""

    id: int
    rule: str
    about: str
    severity: AlertSeverity
    state: Literal["open", "recovered"]
    host: str
    attributes: dict[str, str]
    value: float
    limit: float
    unit: str
    opened_at: str
    recovered_at: str | None
    held_under: int | None
    why: str
    paused: bool = Field(default=False, description="its host is in maintenance: it is kept and not told")


class StoryLine(BaseModel):
    """One line of an incident's story."""

    at: str
    kind: LineKind
    text: str
    who: str | None = None
    link: str | None = None


class Earlier(BaseModel):
    """An earlier incident of the same rules on the same things, and what was written when it was closed."""

    id: int
    closed_at: str
    note: str


class Incident(BaseModel):
    """Alerts that share one cause. It is open until all of them have recovered and stayed so, or somebody closes it."""

    id: int
    title: str
    severity: AlertSeverity
    state: IncidentState
    practice: bool = Field(default=False, description="a drill: nothing is wrong")
    opened_at: str
    recovered_at: str | None
    closed_at: str | None
    closed_by: str | None
    closing_note: str | None
    reopened: int = Field(default=0, description="how often it came again")
    hurts: list[Hurt]
    hosts: list[str] = Field(description="where its alerts are, at most 200")
    host_count: int
    sites: list[str]
    alerts: list[IncidentAlert] = Field(description="the causes and the worst first, as many as are asked for")
    alert_count: int
    open_count: int = Field(description="how many of its alerts have not recovered")
    taken_by: str | None
    taken_at: str | None
    snoozed_until: str | None
    snoozed_until_worse: bool = False
    joined_into: int | None = Field(default=None, description="the incident that it is a part of now")
    likely: LikelyCause | None = Field(default=None, description="its likely cause, once its trail names one")
    told_nobody: bool = Field(default=False, description="it is critical, and no callout is for it")


class IncidentDetail(Incident):
    advice: list[str] = Field(description="of the rules concerned")
    timeline: list[StoryLine] = Field(description="what happened, oldest first")
    before: list[Earlier]


class Acknowledged(Strict):
    note: NoteText = ""


class Take(Strict):
    person: Name | None = Field(default=None, description="whoever asks, unless said")
    note: NoteText = ""


class HandOver(Strict):
    to: Name
    note: NoteText = ""


class AddNote(Strict):
    text: Annotated[str, Field(min_length=1, max_length=2000)]


class Snooze(Strict):
    until: Instant | None = None
    until_worse: bool = False

    @model_validator(mode="after")
    def _has_an_end(self) -> Snooze:
        if (self.until is None) != self.until_worse:
            raise ValueError("until, until_worse: say one of them")
        return self


class Close(Strict):
    reason: Annotated[str, Field(min_length=1, max_length=2000)]


class Join(Strict):
    with_: Annotated[Id, Field(alias="with")]


class Part(Strict):
    alerts: Annotated[list[Id], Field(min_length=1, max_length=1000)]


Act = Literal["acknowledge", "take", "hand-over", "note", "snooze", "close", "reopen"]
MOST_TOGETHER = 100


class Together(Strict):
    """The same for several incidents at once; what cannot be done says why and holds up no other."""

    incidents: Annotated[list[Id], Field(min_length=1, max_length=MOST_TOGETHER)]
    act: Act
    person: Name | None = None
    to: Name | None = None
    text: NoteText = ""
    until: Instant | None = None


class TogetherDone(BaseModel):
    id: int
    problem: str | None = None


class LinkAsked(BaseModel):
    """What a link to act is about, for whoever opens it."""

    incident: int
    title: str
    severity: AlertSeverity
    state: IncidentState
    opened_at: str
    hurts: list[Hurt]
    hosts: list[str]
    taken_by: str | None
    advice: list[str]
    person: str | None
    until: str
    people: list[str] = Field(description="who it can be handed over to")
    practice: bool = False


class LinkAct(Strict):
    act: Literal["take", "note", "hand-over", "snooze"]
    name: Annotated[str, Field(max_length=100)] = Field(default="", description="who acts, where the link is nobody's")
    to: Name | None = None
    text: NoteText = ""
    until: Instant | None = None
