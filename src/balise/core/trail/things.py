"""What can be a cause, and what is known of it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal, get_args

from balise.api.trail import SignKind, ThingKind

Kind = ThingKind
Sort = SignKind
Node = tuple[str, str]
"""A host and one of its services; the host itself with no service, and what is outside with no host."""
ACTING: frozenset[Kind] = frozenset({"session", "process", "user", "query", "change", "address"})
"""Kinds of what happens on a host: somebody or something does it."""
NARROW: frozenset[Kind] = frozenset(get_args(Kind)) - {"host", "service", "machine"}
"""Those, and kinds of what is a part of a host."""
Source = Literal["series", "pattern", "session", "process", "change", "state"]


@dataclass(frozen=True)
class Thing:
    """The narrowest thing that something can be said of. `name` is what people call it on its host or service."""

    kind: Kind
    name: str
    host: str = ""
    service: str = ""

    @property
    def node(self) -> Node:
        """Where it is, in the graph of what needs what."""
        return self.host, self.service


@dataclass(frozen=True)
class Line:
    """One series that was looked at; one without a metric is how often a pattern of lines was said."""

    thing: Thing
    metric: str
    unit: str
    sort: Sort
    attributes: Mapping[str, str] = field(default_factory=dict)
    about: str = ""
    """What it shows, as people say it."""
    counted: bool = False
    """Whether it is the growth of a counter a second."""
    clock: float = 0.0
    """By how many seconds the clock of its host may be off."""


@dataclass(frozen=True)
class Happening:
    """Something that began: a pattern of lines, a session, a process, a change, a state.

    Args:
        at: unix seconds, with `uncertainty` seconds on either side; `until` its end, if it has ended.
        deviation: how far from usual, in the same unit as series have it; NaN for what has no measure.
        share: how much of what its host or service suffers from it accounts for, 0 to 1: waiting sessions that wait for
            it, of the processor time what it takes, of many lines those about it.
        usual: whether the same happens at this hour on other days, 0 to 1.
        holds: what it does to others, in words; empty for nothing that is known.
        sort: what it tells of.
    """

    source: Source
    thing: Thing
    at: float
    text: str
    until: float | None = None
    uncertainty: float = 0.0
    deviation: float = float("nan")
    share: float = 0.0
    usual: float = 0.0
    holds: str = ""
    sort: Sort = "state"


def thing_of(host: str, metric: str, attributes: Mapping[str, str], *, is_machine: bool = False) -> Thing:
    """The narrowest thing that a series of a host is of.

    `thing_of("gate-1", "system.network.errors", {"network.interface.name": "eth0"}) == Thing("link", "eth0", "gate-1")`
    """
    service = attributes.get("service.name", "")
    if volume := attributes.get("system.filesystem.mountpoint"):
        return Thing("volume", volume, host)
    if (disk := attributes.get("system.device")) and metric.startswith("system.disk."):
        return Thing("volume", disk, host)
    if "certificate" in metric:
        return Thing("certificate", attributes.get("tls.server.name") or service or "certificate", host, service)
    if (card := attributes.get("network.interface.name")) and "error" in metric:
        return Thing("link", card, host)
    if program := attributes.get("process.executable.name"):
        return Thing("process", program, host)
    if user := attributes.get("user.name"):
        return Thing("user", user, host)
    if service:
        return Thing("service", service, host, service)
    return Thing("machine" if is_machine else "host", host, host)
