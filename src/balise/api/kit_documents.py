"""Kits as they are written, kept and listed. What reads services with one needs `balise.api.kits` alone."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, Field

from balise.api.dashboards import DashboardBody
from balise.api.kits import Key, KitCredential, KitField, KitGrant, KitReading, KitRecognise, Sentence
from balise.api.metrics import MetricName, Take
from balise.api.problems import DocumentProblem
from balise.api.rules import RuleDocument
from balise.api.spans import Name
from balise.api.strict import Strict


class KitChart(Strict):
    title: Annotated[str, Field(min_length=1, max_length=80)]
    about: Annotated[str, Field(max_length=120)] = ""
    metric: MetricName
    take: Take = "avg"
    by: Annotated[list[Key], Field(max_length=3)] = []
    where: Annotated[str, Field(max_length=300)] | None = None


class KitAction(Strict):
    """What makes sense to do with the service. Actions are carried out by a later part of Balise."""

    action: Name
    about: Sentence
    heavy: bool = False


class KitDocument(KitReading):
    """A kit, whole."""

    rules: Annotated[list[RuleDocument], Field(max_length=40)] = []
    charts: Annotated[list[KitChart], Field(max_length=24)] = []
    actions: Annotated[list[KitAction], Field(max_length=20)] = []
    dashboard: DashboardBody | None = Field(
        default=None, description="of its services; without one it is made of the charts. Variables: host, service"
    )


class KitMetricShown(BaseModel):
    name: str
    unit: str
    kind: str
    about: str
    part: str


class Kit(BaseModel):
    """A kit as it is listed."""

    name: str
    version: str
    title: str
    about: str
    shipped: bool
    generic: bool
    versions: list[str]
    services: int
    recognises: KitRecognise
    target: dict[str, KitField]
    credential: KitCredential | None
    grant: KitGrant | None
    collects: list[KitMetricShown]
    logs: list[str]
    rules: list[str]


class KitWhole(Kit):
    document: KitDocument


class KitCheck(BaseModel):
    kit: str
    version: str = ""
    good: bool
    problems: list[DocumentProblem]


class KitText(BaseModel):
    """A kit as it is written, in YAML."""

    text: Annotated[str, Field(min_length=1, max_length=300_000)]


class KitChange(BaseModel):
    """One difference between two versions of a kit."""

    what: str
    before: str
    after: str
