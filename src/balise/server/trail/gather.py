"""Putting a case together from everything that is kept."""

from __future__ import annotations

import time
from collections.abc import Collection
from dataclasses import dataclass

from balise.core.trail.case import Case
from balise.core.trail.things import Node
from balise.server.trail.edges import Edges
from balise.server.trail.happened import Happened
from balise.server.trail.lines import LEAST_BEFORE, LineReader


@dataclass(frozen=True)
class Gathered:
    """A case, and what was looked at for it."""

    case: Case
    hosts: int
    series: int
    events: int
    left_out: int
    seconds: float


class Gatherer:
    """Reads what could explain what is felt somewhere."""

    def __init__(self, *, edges: Edges, lines: LineReader, happened: Happened) -> None:
        self._edges = edges
        self._lines = lines
        self._happened = happened

    def gather(self, felt: Collection[Node], start: float, end: float) -> Gathered:
        """The case of a stretch, unix seconds."""
        began = time.perf_counter()
        edges = self._edges.all()
        hosts, left_out = self._edges.around(felt, edges)
        laid = self._lines.read(hosts, self._edges.machines(), start, end)
        before = max(start - float(laid.times[0]), LEAST_BEFORE)
        happenings, events = self._happened.of(hosts, start, end, before)
        graph = self._edges.graph(edges, hosts, laid.lines)
        nodes = frozenset(felt) | {(line.thing.host, line.thing.service) for line in laid.lines
                                   if (line.thing.host, "") in felt and line.thing.service}  # fmt: skip
        case = Case(start, end, nodes, laid.times, laid.lines, laid.values, laid.usual, laid.spread, happenings, graph)
        return Gathered(case, len(hosts), laid.looked, events, left_out + laid.left_out, time.perf_counter() - began)
