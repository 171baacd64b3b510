"""What incidents have to know of the world: what needs what, which hosts are one site, who is not heard."""

from __future__ import annotations

import time
from collections.abc import Callable, Collection, Iterable
from dataclasses import dataclass

from balise.api.applications import ApplicationBody, ApplicationPart
from balise.api.hosts import State
from balise.api.incidents import Hurt
from balise.core.health import worst
from balise.core.incidents.around import Node
from balise.core.incidents.hurting import hurts
from balise.core.rules.limits import CRITICAL
from balise.server.applications.book import ApplicationBook
from balise.server.hosts.directory import Directory
from balise.server.hosts.machines import Machines
from balise.server.incidents.members import Member

GOOD_FOR = 10.0
"""Seconds for which what applications need is remembered; who changes one has it read anew at once."""


@dataclass(frozen=True)
class _Part:
    application: str
    name: str
    host: str
    service: str


class Surroundings:
    """Answers from the applications as they are drawn and the hosts as they are."""

    def __init__(
        self,
        *,
        directory: Directory,
        applications: ApplicationBook,
        machines: Machines,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self._directory = directory
        self._machines = machines
        self._applications = applications
        self._clock = clock
        self._read_at: float | None = None
        self._drawings: list[tuple[str, ApplicationBody]] = []
        self._parts: dict[str, list[_Part]] = {}
        """By host the parts of applications that stand for it, or for a service on it."""
        self._by_name: dict[tuple[str, str], _Part] = {}
        self._below: dict[tuple[str, str], list[tuple[str, str]]] = {}
        """By application and part what that needs."""
        self._closed: dict[Node, list[Node]] = {}

    def forget(self) -> None:
        """An application has changed."""
        self._read_at = None

    def _fresh(self) -> None:
        now = self._clock()
        if self._read_at is not None and now - self._read_at < GOOD_FOR:
            return
        self._drawings = self._applications.drawings()
        self._parts, self._below, self._closed = {}, {}, {}
        for name, body in self._drawings:
            for part in body.parts:
                if part.host is not None:
                    self._parts.setdefault(part.host, []).append(_Part(name, part.name, part.host, part.service or ""))
            for need in body.needs:
                self._below.setdefault((name, need.from_), []).extend((name, to) for to in need.to)
        self._by_name = {(part.application, part.name): part for parts in self._parts.values() for part in parts}
        self._read_at = now

    # --- for the grouping

    def drawn(self, host: str, service: str) -> str:
        """A service as applications know it: empty for one that stands for no part, which is its host's matter."""
        self._fresh()
        return service if any(part.service == service for part in self._parts.get(host, ())) else ""

    def needs(self, node: Node) -> Collection[Node]:
        """Whatever the parts of a host need, or those of one of its services; with each service its host."""
        self._fresh()
        found = self._closed.get(node)
        if found is None:
            host, service = node
            mine = [p for p in self._parts.get(host, ()) if not service or p.service in ("", service)]
            seen: set[tuple[str, str]] = set()
            waiting = [(part.application, part.name) for part in mine]
            while waiting:
                for below in self._below.get(waiting.pop(), ()):
                    if below not in seen:
                        seen.add(below)
                        waiting.append(below)
            nodes = {n for key in seen if (part := self._by_name.get(key)) is not None for n in self._nodes(part)}
            found = self._closed[node] = sorted(nodes - {node})
        return found

    def _nodes(self, part: _Part) -> list[Node]:
        """Where an alert is one on a part."""
        if part.service:
            return [(part.host, part.service), (part.host, "")]
        return [(part.host, ""), *((part.host, other.service) for other in self._parts[part.host] if other.service)]

    def machine(self, host: str) -> str:
        known = self._directory.find(host)
        return self._machines.of(known)[0] if known is not None else ""

    def all_silent(self, kind: str, name: str) -> bool:
        now = time.time()
        mine = [
            known
            for known in self._directory.all()
            if (name in known.groups if kind == "site" else known.collected_by == name)
        ]
        return len(mine) > 1 and all(known.is_silent(now) for known in mine)

    # --- whom it hurts

    def hurt_by(self, members: Iterable[Member]) -> list[Hurt]:
        """What these alerts make of the applications; those that are over as they were at their worst."""
        self._fresh()
        of_node: dict[tuple[str, str | None], State] = {}
        for member in members:
            level = member.level or member.worst
            if level:
                state: State = (
                    "silent" if member.silence and level == CRITICAL else "critical" if level == CRITICAL else "warning"
                )
                service = self.drawn(member.host_name, member.service) if member.service else ""
                key = ("probe", member.probe) if member.probe else (member.host_name, service or None)
                of_node[key] = worst([of_node.get(key, "ok"), state])
        if not of_node:
            return []
        return hurts(self._drawings, lambda part: self._state_of(part, of_node))

    def touched_by(self, host: str) -> list[Hurt]:
        """The applications that a host being down would touch."""
        self._fresh()
        return hurts(self._drawings, lambda part: self._state_of(part, {(host, None): "critical"}))

    def _state_of(self, part: ApplicationPart, of_node: dict[tuple[str, str | None], State]) -> State:
        if part.probe is not None:
            return of_node.get(("probe", part.probe), "ok")
        if part.group is not None:
            hosts = [host for host, service in of_node if service is None]
            mine = [h for h in hosts if (known := self._directory.find(h)) is not None and part.group in known.groups]
            return worst(of_node[host, None] for host in mine)
        host = part.host or ""
        # Whatever is wrong on a host puts its services in doubt.
        return worst(of_node.get((host, service), "ok") for service in {part.service or None, None})
