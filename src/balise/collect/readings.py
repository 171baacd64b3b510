"""What collectors hand over: readings, which `otlp` turns into requests."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal, Protocol

from balise.api.events import Severity

Kind = Literal["gauge", "counter", "sum"]


@dataclass(frozen=True, slots=True)
class Meaning:
    """A metric's unit (UCUM), kind and description."""

    unit: str
    kind: Kind
    description: str


@dataclass(frozen=True, slots=True)
class Reading:
    """One value of one metric."""

    metric: str
    value: float
    attributes: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class LogLine:
    """One log line. `time` is unix seconds."""

    time: float
    body: str
    severity: Severity
    source: str
    attributes: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Kept:
    """Evidence or a report: structured content under an event name."""

    time: float
    name: str
    content: Any


Found = Reading | LogLine | Kept


class CollectorProblem(Exception):
    """A part of a system that cannot be read, or not wholly: the message says why and what to do."""


class NotHere(CollectorProblem):
    """A part that this system does not have or does not let its reader see: no trouble unless it was asked for."""


@dataclass
class Sorted:
    """What collectors found, by its kind."""

    readings: list[Reading] = field(default_factory=list)
    lines: list[LogLine] = field(default_factory=list)
    kept: list[Kept] = field(default_factory=list)

    def add(self, found: list[Found]) -> None:
        self.readings += [one for one in found if isinstance(one, Reading)]
        self.lines += [one for one in found if isinstance(one, LogLine)]
        self.kept += [one for one in found if isinstance(one, Kept)]


class Collector(Protocol):
    """Reads one part of a system, whatever system it is. `read` is called with the time, unix seconds."""

    @property
    def name(self) -> str: ...

    @property
    def meanings(self) -> Mapping[str, Meaning]: ...

    def read(self, now: float) -> Iterable[Found]:
        """What there is at this moment. Raises OSError or CollectorProblem when the part cannot be read."""
