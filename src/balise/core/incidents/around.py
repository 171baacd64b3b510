"""What incidents have to know of the world around an alert."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Protocol

Node = tuple[str, str]
"""A host and one of its services; the host itself with no service."""


@dataclass(frozen=True)
class Breached:
    """An alert as incidents look at it. `silence` says that it is about nothing being heard of its host."""

    number: int
    rule: str
    opened_at: float
    host: str = ""
    service: str = ""
    site: str = ""
    relay: str = ""
    probe: str = ""
    silence: bool = False

    @property
    def node(self) -> Node:
        return self.host, self.service


class Around(Protocol):
    """What is known of hosts and services at a moment."""

    def needs(self, node: Node) -> Collection[Node]:
        """All that a node needs to work, however far away, as applications say it."""
        ...

    def machine(self, host: str) -> str:
        """The host that a host is a virtual machine on; empty when it is none, or nobody knows."""
        ...

    def all_silent(self, kind: str, name: str) -> bool:
        """Whether nothing is heard of any host of a `site`, or behind a `relay`."""
        ...
