"""What incidents have to know of the world: what needs what, which hosts are one site, who is not heard."""

from __future__ import annotations

import time
from collections.abc import Callable, Collection, Iterable

from balise.api.applications import ApplicationBody, ApplicationPart
from balise.api.hosts import State
from balise.api.incidents import Hurt
from balise.core.incidents.around import Node
from balise.core.incidents.hurting import hurts
from balise.server.applications.book import ApplicationBook
from balise.server.hosts.directory import Directory
from balise.server.incidents.members import Member

GOOD_FOR = 10.0
"""Seconds for which what applications need is remembered; who changes one has it read anew at once."""
MACHINE = "runs-on"
"""The label of a virtual machine that names the host it is on."""
_STATES: dict[int, State] = {2: "critical", 1: "warning"}


class Surroundings:
    """Answers from the applications as they are drawn and the hosts as they are."""

    def __init__(
        self, *, directory: Directory, applications: ApplicationBook, clock: Callable[[], float] = time.monotonic
    ) -> None:
        self._directory = directory
        self._applications = applications
        self._clock = clock
        self._read_at: float | None = None
        self._drawings: list[tuple[str, ApplicationBody]] = []
        self._below: dict[Node, list[Node]] = {}
        self._closed: dict[Node, list[Node]] = {}

    def forget(self) -> None:
        """An application has changed."""
        self._read_at = None

    def _fresh(self) -> None:
        now = self._clock()
        if self._read_at is not None and now - self._read_at < GOOD_FOR:
            return
        self._drawings = self._applications.drawings()
        self._below, self._closed = {}, {}
        for _, body in self._drawings:
            nodes = {part.name: (part.host, part.service or "") for part in body.parts if part.host is not None}
            for need in body.needs:
                for to in need.to:
                    if need.from_ in nodes and to in nodes:
                        self._below.setdefault(nodes[need.from_], []).append(nodes[to])
        self._read_at = now

    # --- for the grouping

    def needs(self, node: Node) -> Collection[Node]:
        self._fresh()
        found = self._closed.get(node)
        if found is None:
            found, waiting = [], list(self._below.get(node, ()))
            while waiting:
                one = waiting.pop()
                if one not in found and one != node:
                    found.append(one)
                    waiting += self._below.get(one, ())
            self._closed[node] = found
        return found

    def machine(self, host: str) -> str:
        known = self._directory.find(host)
        return known.labels.get(MACHINE, "") if known is not None else ""

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
        """What these alerts, as far as they are open, make of the applications."""
        self._fresh()
        of_node: dict[tuple[str, str | None], State] = {}
        for member in members:
            if member.level:
                state: State = "silent" if member.silence and member.level > 1 else _STATES[member.level]
                keys: list[tuple[str, str | None]]
                keys = [("probe", member.probe)] if member.probe else [(member.host_name, None)]
                if member.service:
                    keys.append((member.host_name, member.service))
                for key in keys:
                    of_node[key] = _worse(of_node.get(key, "ok"), state)
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
            state: State = "ok"
            for (host, service), found in of_node.items():
                known = self._directory.find(host) if service is None else None
                if known is not None and part.group in known.groups:
                    state = _worse(state, found)
            return state
        return of_node.get((part.host or "", part.service or None), "ok")


def _worse(one: State, other: State) -> State:
    order = ("ok", "warning", "silent", "critical")
    return max(one, other, key=order.index)
