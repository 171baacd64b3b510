"""Putting a case together from everything that is kept."""

from __future__ import annotations

import time
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from types import MappingProxyType

import numpy as np

from balise.core.trail.case import Case
from balise.core.trail.evidence import Sign, signs_of_lines
from balise.core.trail.graph import Graph
from balise.core.trail.things import Node
from balise.server.trail.edges import Edges
from balise.server.trail.happened import Happened
from balise.server.trail.lines import LEAST_BEFORE, LineReader
from balise.server.trail.said import SaidReader

NO_EDGES = Graph([])
NO_LEANING: Mapping[str, float] = MappingProxyType({})


@dataclass(frozen=True)
class Gathered:
    """A case, those of its lines that departed, and what was looked at for it."""

    case: Case
    signs: Sequence[Sign]
    hosts: int
    series: int
    events: int
    left_out: int
    seconds: float


class Gatherer:
    """Reads what could explain what is felt somewhere."""

    def __init__(self, *, edges: Edges, lines: LineReader, said: SaidReader, happened: Happened) -> None:
        self._edges = edges
        self.lines = lines
        self.said = said
        self.happened = happened

    def gather(
        self,
        felt: Collection[Node],
        start: float,
        end: float,
        *,
        leaning: Mapping[str, float] = NO_LEANING,
        called: float | None = None,
        about: Collection[tuple[str, str]] = (),
    ) -> Gathered:
        """The case of a stretch, unix seconds; `leaning` is what people said of causes before, `called` when they were
        called and `about` the hosts and metrics that they were called for."""
        began = time.perf_counter()
        edges = self._edges.all()
        hosts, left_out = self._edges.around(felt, edges)
        machines = self._edges.machines()
        laid = self.lines.read(hosts, machines, start, end)
        before = max(start - float(laid.times[0]), LEAST_BEFORE)
        heard = self.said.read(hosts, machines, laid.steps, start, end)
        lines = [*laid.lines, *heard.lines]
        values, usual = np.vstack([laid.values, heard.values]), np.vstack([laid.usual, heard.usual])
        spread = np.concatenate([laid.spread, heard.spread])
        case = Case(start, end, frozenset(felt), laid.times, lines, values, usual, spread, [], NO_EDGES, leaning)
        signs = signs_of_lines(case)
        happenings = self.happened.of(hosts, {sign.thing.host for sign in signs}, start, end, before)
        graph = self._edges.graph(edges, hosts, lines)
        nodes = frozenset(felt) | {(line.thing.host, line.thing.service) for line in lines
                                   if (line.thing.host, "") in felt and line.thing.service}  # fmt: skip
        case = replace(
            case, felt=nodes, happenings=[*heard.happenings, *happenings], graph=graph, called=called,
            about=frozenset(about),
        )  # fmt: skip
        seconds = time.perf_counter() - began
        return Gathered(case, signs, len(hosts), laid.looked, heard.events, left_out + laid.left_out, seconds)
