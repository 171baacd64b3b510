"""What needs what, how sure that is, and what shares something with what."""

from __future__ import annotations

import heapq
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Literal

from balise.core.trail.things import Node

Tie = Literal["needs", "runs on", "shares", "talks to", "is near"]
STRENGTH: dict[Tie, float] = {"needs": 0.92, "runs on": 0.9, "shares": 0.7, "talks to": 0.5, "is near": 0.4}
"""How much of what befalls one end reaches the other, as far as an edge alone can say."""
WEAKEST = 0.03
MOST_HOPS = 6


@dataclass(frozen=True)
class Edge:
    """`of` suffers when `on` does. Who shares something with another, talks to it or is near it, suffers either way."""

    of: Node
    on: Node
    tie: Tie = "needs"
    how: str = "drawn"

    @property
    def mutual(self) -> bool:
        return self.tie in ("shares", "talks to", "is near")


@dataclass(frozen=True)
class Way:
    """How one node reaches another: how strongly, over how many edges, and by which last edge."""

    strength: float
    hops: int
    last: Edge | None = None


class Graph:
    """Answers who suffers with a node, and how strongly that is believed: the product along the best way."""

    def __init__(self, edges: Iterable[Edge]) -> None:
        self._suffer: dict[Node, list[tuple[Node, float, Edge]]] = {}
        self.edges = 0
        self._machine: dict[Node, Node] = {}
        for edge in edges:
            self.edges += 1
            if edge.tie == "runs on" and not edge.of[1]:
                self._machine[edge.of] = edge.on
            strength = STRENGTH[edge.tie]
            self._suffer.setdefault(edge.on, []).append((edge.of, strength, edge))
            if edge.mutual:
                self._suffer.setdefault(edge.of, []).append((edge.on, strength, edge))

    def beside(self, node: Node) -> list[Node]:
        """The hosts that run on the same machine as a host, without itself."""
        machine = self._machine.get((node[0], ""))
        return [of for of, on in self._machine.items() if on == machine and of[0] != node[0]] if machine else []

    def on(self, machine: Node) -> list[Node]:
        """The hosts that run on a machine."""
        return [of for of, on in self._machine.items() if on == machine]

    def reached(self, *nodes: Node) -> Mapping[Node, Way]:
        """Everything that suffers when one of these nodes does, themselves first."""
        found = dict.fromkeys(nodes, Way(1.0, 0))
        done: set[Node] = set()
        heap = [(-1.0, 0, node) for node in sorted(found)]
        while heap:
            strength, hops, at = heapq.heappop(heap)
            if at in done or hops >= MOST_HOPS:
                continue
            done.add(at)
            for to, weight, edge in self._suffer.get(at, ()):
                new = -strength * weight
                if new >= WEAKEST and (to not in found or new > found[to].strength):
                    found[to] = Way(new, hops + 1, edge)
                    heapq.heappush(heap, (-new, hops + 1, to))
        return found


def near(groups: Mapping[str, Iterable[Node]]) -> list[Edge]:
    """Edges for what is of one site or group: by a node of its own that stands for it, so that they stay few."""
    return [Edge(node, ("", name), "is near", "same") for name, nodes in groups.items() for node in nodes]
