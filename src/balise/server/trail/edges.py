"""What needs what, as applications draw it, hosts say it, and agents saw it; and whom a place has to do with."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator

from balise.api.applications import ApplicationPart
from balise.core.trail.graph import Edge, Graph, near
from balise.core.trail.segments import segments
from balise.core.trail.things import Line, Node
from balise.server.applications.book import ApplicationBook
from balise.server.applications.talks import Talks
from balise.server.errors import unknown
from balise.server.hosts.directory import Directory, Known
from balise.server.hosts.machines import Machines
from balise.server.probes.results import ProbeResults
from balise.server.services.book import ServiceBook

MOST_HOSTS = 500
"""Hosts that are looked at: the nearest to where something is felt."""


CONSOLE = "the console"


class Edges:
    """Answers from the applications as they are drawn, the hosts as they are, and who talks to whom."""

    def __init__(
        self,
        *,
        directory: Directory,
        applications: ApplicationBook,
        talks: Talks,
        services: ServiceBook,
        probes: ProbeResults,
        machines: Machines,
    ) -> None:
        self._directory = directory
        self._machines = machines
        self._probes = probes
        self._services = services
        self._applications = applications
        self._talks = talks

    def machines(self) -> dict[str, int]:
        """The hosts on which others run, and how many."""
        return {machine: len(hosts) for machine, hosts in self._machines.carried().items()}

    def felt(self, application: str) -> list[Node]:
        """The places of an application that are nearest to its users: the parts that no other needs."""
        for name, body in self._applications.drawings():
            if name == application:
                needed = {to for need in body.needs for to in need.to}
                first = [part for part in body.parts if part.name not in needed] or list(body.parts)
                return [node for part in first for node in self._nodes(part)]
        return []

    def places(self, host: str | None, service: str | None) -> list[Node]:
        """A host, a service on it, or a service wherever it is. Raises Refused 404 for what is not there."""
        if host is not None and self._directory.find(host) is None:
            raise unknown("host", host)
        if service is None:
            return [(host or "", "")]
        found = [(one.host, one.name) for one in self._services.all(host) if one.name == service]
        if not found:
            raise unknown("service", service)
        return found

    def all(self) -> list[Edge]:
        """Every edge that is known."""
        return [*self._drawn(), *self._told(), *self._seen(), *self._near()]

    def around(self, felt: Collection[Node], edges: Iterable[Edge]) -> tuple[list[Known], int]:
        """The hosts that may have to do with some places, the nearest first, and how many were left out."""
        # Against the edges: from whoever suffers to whoever may be why.
        back = Graph(Edge(edge.on, edge.of, edge.tie) for edge in edges)
        near_by = {host: 2.0 for host, _ in felt}
        for (host, _), way in back.reached(*felt).items():
            near_by[host] = max(near_by.get(host, 0.0), way.strength)
        order = sorted(self._directory.all(), key=lambda known: (-near_by.get(known.name, 0.0), known.name))
        return order[:MOST_HOSTS], max(0, len(order) - MOST_HOSTS)

    @staticmethod
    def graph(edges: Iterable[Edge], hosts: Iterable[Known], lines: Iterable[Line]) -> Graph:
        """The edges among some hosts, and between hosts and what was measured on them."""
        names = {known.name for known in hosts}
        found = [edge for edge in edges if not edge.of[0] or edge.of[0] in names]
        for host, service in {line.thing.node for line in lines if line.thing.service}:
            found.append(Edge((host, service), (host, ""), "runs on"))
            found.append(Edge((host, ""), (host, service), "shares"))
        return Graph(found)

    def _drawn(self) -> Iterator[Edge]:
        for _, body in self._applications.drawings():
            parts = {part.name: part for part in body.parts}
            for need in body.needs:
                for to in need.to:
                    if need.from_ in parts and to in parts:
                        yield from self._between(parts[need.from_], parts[to])

    def _between(self, of: ApplicationPart, on: ApplicationPart) -> Iterator[Edge]:
        for one in self._nodes(of):
            for other in self._nodes(on):
                if one != other:
                    yield Edge(one, other, "needs", "drawn")
                # What is drawn of a host holds for what is measured of its services, and the other way about.
                if one[1] and (one[0], "") != other:
                    yield Edge((one[0], ""), other, "needs", "drawn")
                if other[1]:
                    yield Edge(one, (other[0], ""), "needs", "drawn")

    def _nodes(self, part: ApplicationPart) -> list[Node]:
        if part.host is not None:
            return [(part.host, part.service or "")]
        if part.probe is not None:
            host = self._directory.get(self._probes.host_of(part.probe))
            return [(host.name, "")] if host is not None else []
        return [(known.name, "") for known in self._directory.all() if part.group in known.groups]

    def _told(self) -> Iterator[Edge]:
        for name, machine in self._machines.all().items():
            yield Edge((name, ""), (machine, ""), "runs on", "told")
            yield Edge((machine, ""), (name, ""), "shares", "told")

    def _seen(self) -> Iterator[Edge]:
        for talk in self._talks.all():
            yield Edge((talk.from_host, ""), (talk.to_host, talk.to_service or ""), "talks to", "seen")

    def _near(self) -> list[Edge]:
        groups: dict[str, list[Node]] = {}
        for known in self._directory.all():
            for site in known.sites:
                groups.setdefault(f"site {site}", []).append((known.name, ""))
            for group in known.listed:
                groups.setdefault(f"group {group}", []).append((known.name, ""))
            if known.mode == "remote" and not known.collected_by.startswith(CONSOLE):
                collector = known.collected_by.split(" over ")[0]
                groups.setdefault(f"collected by {collector}", []).append((known.name, ""))
            for segment in segments(map(str, known.facts.get("addresses") or ())):
                groups.setdefault(f"network {segment}", []).append((known.name, ""))
        return near(groups)
