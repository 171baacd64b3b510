"""The fleet as a tree: who is worst, and why, level by level."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from urllib.parse import quote, unquote

from balise.api.applications import Application
from balise.api.hosts import STATES_WORST_FIRST, State
from balise.api.tree import FACETS, Facet, NodeKind, Tree, TreeNode
from balise.core.health import worst
from balise.core.quantities import in_words
from balise.core.rules.limits import LEVEL_NAMES
from balise.server.alerts.opened import Open, OpenAlerts
from balise.server.errors import bad_field
from balise.server.hosts.directory import Directory, Known, attribute_of

MOST_HOSTS = 1000
"""Hosts told below one node."""
MOST_REASONS = 2
NONE = "(none)"
"""Where those are that belong to nothing."""
_RANK = {state: rank for rank, state in enumerate(STATES_WORST_FIRST)}


@dataclass(frozen=True)
class _Node:
    kind: NodeKind
    name: str
    hosts: list[Known]
    path: tuple[tuple[str, str], ...]


class FleetTree:
    """Answers levels of the tree.

    Args:
        services: the worst state of each host's services, by host number.
        applications: all applications, as they roll up.
    """

    def __init__(
        self,
        *,
        directory: Directory,
        alerts: OpenAlerts,
        services: Callable[[], Mapping[int, State]],
        applications: Callable[[], Sequence[Application]],
    ) -> None:
        self._directory = directory
        self._alerts = alerts
        self._services = services
        self._applications = applications

    def level(self, by: str, below: str | None) -> Tree:
        """What is below a node, or the top. Raises Refused 422 naming the field."""
        if by not in ("site", "group", "application") and not (by.startswith("label.") and len(by) > 6):
            raise bad_field("by", "write site, group, application or label.NAME")
        path = _path(below) if below else ()
        hosts = [known for known in self._directory.all() if all(self._is_in(known, *step) for step in path)]
        if path and not hosts:
            raise bad_field("below", f"there is nothing below {below!r}: take a node as the answer above gave it")
        opened = self._opened()
        of_services = self._services()
        nodes = self._nodes(by, path, hosts)
        found = [self._told(node, opened, of_services) for node in nodes]
        if by == "application" and not path:
            found = self._rolled(found)
        found.sort(key=lambda n: (_RANK[n.state], -sum(n.counts.get(s, 0) for s in ("critical", "warning")), n.name))
        return Tree(items=found[:MOST_HOSTS], left_out=max(0, len(found) - MOST_HOSTS))

    # --- which nodes there are

    def _nodes(self, by: str, path: tuple[tuple[str, str], ...], hosts: Sequence[Known]) -> list[_Node]:
        if not path:
            return self._parted(by, (), hosts)
        if by == "site" and len(path) == 1:
            # What is in no group stands beside the groups.
            sites = {name for name, group in self._directory.groups.items() if group.kind == "site"} | {path[0][1]}
            grouped = self._parted("group", path, [k for k in hosts if set(k.groups) - sites], without=sites)
            return [*grouped, *self._of_hosts(path, [k for k in hosts if not set(k.groups) - sites])]
        if by == "group" and path[-1][0] == "group":
            under = [name for name, group in self._directory.groups.items() if group.parent == path[-1][1]]
            nested = [
                _Node("group", name, mine, (*path, ("group", name)))
                for name in under
                if (mine := [known for known in hosts if name in known.groups])
            ]
            deeper = {known.id for node in nested for known in node.hosts}
            return [*nested, *self._of_hosts(path, [known for known in hosts if known.id not in deeper])]
        return self._of_hosts(path, hosts)

    def _parted(
        self, by: str, path: tuple[tuple[str, str], ...], hosts: Sequence[Known], without: Iterable[str] = ()
    ) -> list[_Node]:
        parts: dict[str, list[Known]] = {}
        for known in hosts:
            for name in self._values(known, by):
                if name not in without and (by != "group" or path or self._is_top(name)):
                    parts.setdefault(name, []).append(known)
        kind: NodeKind = "label" if by.startswith("label.") else by  # type: ignore[assignment]
        return [_Node(kind, name, mine, (*path, (by, name))) for name, mine in parts.items()]

    @staticmethod
    def _of_hosts(path: tuple[tuple[str, str], ...], hosts: Iterable[Known]) -> list[_Node]:
        return [_Node("host", known.name, [known], (*path, ("host", known.name))) for known in hosts]

    def _is_top(self, group: str) -> bool:
        held = self._directory.groups.get(group)
        return held is None or held.parent is None

    @staticmethod
    def _values(known: Known, by: str) -> list[str]:
        found = attribute_of(known, by)
        if isinstance(found, list):
            return [str(one) for one in found] or [NONE]
        return [str(found)] if found not in (None, "") else [NONE]

    def _is_in(self, known: Known, by: str, name: str) -> bool:
        return name in self._values(known, by)

    # --- what is told of each

    def _opened(self) -> dict[int, list[Open]]:
        found: dict[int, list[Open]] = {}
        for alert in list(self._alerts.values()):
            if alert.host is not None and alert.level:
                found.setdefault(alert.host, []).append(alert)
        return found

    def _told(self, node: _Node, opened: Mapping[int, list[Open]], of_services: Mapping[int, State]) -> TreeNode:
        counts: dict[State, int] = {}
        for known in node.hosts:
            counts[known.state] = counts.get(known.state, 0) + 1
        return TreeNode(
            node="/".join(f"{by}={quote(name, safe=' ')}" for by, name in node.path),
            kind=node.kind,
            name=node.name,
            state=worst(counts),
            why=_why(node, opened),
            hosts=len(node.hosts),
            counts=counts,
            facets=_facets(node.hosts, opened, of_services),
            below=node.kind != "host",
        )

    def _rolled(self, found: Sequence[TreeNode]) -> list[TreeNode]:
        """Applications are as what they need makes them, whatever the hosts are one by one."""
        states = {one.name: one for one in self._applications()}
        nodes = []
        for node in found:
            one = states.get(node.name)
            if one is None:
                nodes.append(node)
                continue
            because = ", ".join(one.because[:MOST_REASONS])
            why = node.why or (f"because of {because}" if because else "")
            nodes.append(node.model_copy(update={"state": one.state, "why": why if one.state != "ok" else ""}))
        return nodes


def _path(below: str) -> tuple[tuple[str, str], ...]:
    steps = [part.partition("=") for part in below.split("/")]
    if len(steps) > 10 or any(not by or not sign for by, sign, _ in steps):
        raise bad_field("below", "not a node: take one as the answer above gave it")
    return tuple((by, unquote(name)) for by, _, name in steps)


def _facets(
    hosts: Iterable[Known], opened: Mapping[int, list[Open]], of_services: Mapping[int, State]
) -> dict[Facet, State]:
    states: dict[Facet, list[State]] = {facet: [] for facet in FACETS}
    for known in hosts:
        if known.state == "paused":
            for facet in FACETS:
                states[facet].append("paused")
            continue
        for facet in FACETS:
            # Of a host that is not heard nobody knows how any of it does.
            states[facet].append("silent" if known.state == "silent" else "ok")
        for alert in opened.get(known.id, ()):
            states[alert.facet].append(LEVEL_NAMES[alert.level])  # type: ignore[arg-type]
        if (service := of_services.get(known.id)) is not None and known.state != "silent":
            states["services"].append(service)
    return {facet: worst(found) for facet, found in states.items()}


def _why(node: _Node, opened: Mapping[int, list[Open]]) -> str:
    """What is worst, in words: the alerts of the worst hosts, then how much more there is."""
    reasons: list[tuple[int, float, str]] = []
    now = time.time()
    for known in node.hosts:
        if known.state == "paused":
            continue
        on = f"{known.name}: " if node.kind != "host" else ""
        for alert in opened.get(known.id, ()):
            reasons.append((-alert.level, -alert.opened_at, f"{on}{_reason(alert)}"))
        if known.state == "silent":
            reasons.append((-1, 0.0, f"{on}silent for {in_words(now - known.state_since, 's')}"))
    reasons.sort()
    said = "; ".join(text for *_, text in reasons[:MOST_REASONS])
    more = len(reasons) - MOST_REASONS
    return f"{said}; {more} more" if more > 0 else said


def _reason(alert: Open) -> str:
    about = alert.about.rstrip(".")
    return f"{about} ({alert.on})" if alert.on else about
