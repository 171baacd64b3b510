"""What every way of reading a distant host has in common."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Protocol

from balise.api.hosts import Facts
from balise.api.remote import FilePlace, RemoteTarget, Result
from balise.api.services import ServiceTurn
from balise.collect.readings import Kept, LogLine, Meaning, Reading

AT_ONCE = 16
"""Handshakes that are under way at once in one process."""
Positions = dict[str, FilePlace]
"""Up to where each followed file was read, by its path."""


class LinkProblem(Exception):
    """A host that could not be read: `result` is the kind of it, the message says why and what to do."""

    def __init__(self, result: Result, message: str) -> None:
        super().__init__(message)
        self.result = result


@dataclass(frozen=True)
class Taken:
    """What one reading of a distant host gave. `seconds` is how long it took, `facts` are told now and then."""

    readings: list[Reading]
    meanings: Mapping[str, Meaning]
    seconds: float
    lines: list[LogLine] = field(default_factory=list)
    kept: list[Kept] = field(default_factory=list)
    facts: Facts | None = None
    positions: Positions = field(default_factory=dict)
    files: list[dict[str, Any]] = field(default_factory=list)
    problem: str | None = None
    """What is wrong with what was read, although reading it went well."""
    turn: ServiceTurn | None = None
    """How it went part by part, for a service."""


class Link(Protocol):
    """One host, and the connection to it that is kept.

    Each wait for the other side ends after the target's time limit with TimeoutError; waiting for a turn of our own
    is not counted, so that a busy collector never calls a host slow.
    """

    @property
    def host_key(self) -> str:
        """The key that the host showed, for a protocol that has one."""

    async def read(self, now: float) -> Taken:
        """One reading at `now`, unix seconds. Raises LinkProblem."""

    def adopt(self, target: RemoteTarget) -> None:
        """Goes on for the same place and credential under another name, and with other files to follow."""

    def settle(self, taken: Taken) -> None:
        """What was taken is kept: the next reading goes on behind it."""

    async def close(self) -> None: ...
