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


class Collector(Protocol):
    """Reads one part of a system. `read` is called once an interval with the time, unix seconds."""

    @property
    def name(self) -> str: ...

    @property
    def meanings(self) -> Mapping[str, Meaning]: ...

    def read(self, now: float) -> Iterable[Reading]:
        """The readings of this moment; raises OSError when the part cannot be read."""
