"""The demo's ferries as cases for the trail: laid down by its model, gathered as a console does, from each story."""

from __future__ import annotations

import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from balise.core.trail.case import Case
from balise.core.trail.graph import Edge
from balise.core.trail.things import Happening, Kind, Line, Thing
from balise.demo.fleet import FLEET
from balise.demo.quirks import QUIRKS
from balise.demo.run import furnish
from balise.demo.schedules import schedule_from
from balise.demo.stories import Occurrence
from balise.demo.tales import TALES
from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.settings import Settings
from balise.server.trail.edges import Edges
from balise.server.trail.gather import Gatherer
from worlds.laying import Chance, Run

ENDS = 1_764_000_000.0
"""When the histories end, unix seconds."""
DAYS = 3.4
MACHINE: tuple[Kind, ...] = ("machine", "host")


@dataclass(frozen=True)
class True_:
    """What is right for a story: on these hosts things of these kinds whose name has one of the words."""

    hosts: tuple[str, ...]
    kinds: tuple[Kind, ...]
    words: tuple[str, ...] = ("",)

    def fits(self, thing: Thing) -> bool:
        return thing.host in self.hosts and thing.kind in self.kinds and any(w in thing.name for w in self.words)


TRUE = {
    "tariff-import": True_(("book-db-n1",), ("session", "process", "change"), ("tariff-import",)),
    "creeping-heap": True_(("book-app-n2",), ("service", "process", "host")),
    "full-deck": True_(("gate-s3",), ("volume", "change"), ("/var/log", "configuration")),
    "loud-neighbour": True_(("hv-s1",), ("process", *MACHINE), ("backup", "hv-s1")),
    "password-sweep": True_(("bastion-h1",), ("address",)),
    "stale-certificate": True_(("web-h1",), ("certificate",)),
    "failing-fan": True_(("hv-n1",), MACHINE),
    "lost-gate": True_(("gate-n2",), ("link",)),
    "bad-rollout": True_(("web-n1", "web-n2"), ("change",), ("booking-web",)),
}


class FewerEdges(Edges):
    """Edges of which some share is not known. What is on one site or in one group still is."""

    missing = 0.0
    rng = np.random.default_rng(0)

    def all(self) -> list[Edge]:
        return [edge for edge in super().all() if edge.tie == "is near" or self.rng.random() >= self.missing]


def voyages(seed: int, chance: Chance, *, quiet: int = 0) -> Iterator[Run]:
    """The stories of one history; `quiet` so many stretches without any, half of them with disturbances."""
    with tempfile.TemporaryDirectory(prefix="balise-skerry-") as folder:
        words = [folder, str(ENDS), str(ENDS - DAYS * 86_400), str(ENDS), str(len(FLEET)), str(DAYS), str(seed)]
        subprocess.run([sys.executable, "-m", "balise.demo.history", *words], check=True, stdout=subprocess.DEVNULL)
        console = build(Settings(data=Path(folder)))
        try:
            furnish(console)
            yield from _runs(console, seed, chance, quiet)
        finally:
            close(console)


def _runs(console: Parts, seed: int, chance: Chance, quiet: int) -> Iterator[Run]:
    edges = FewerEdges(
        directory=console.directory, applications=console.applications, talks=console.talks,
        services=console.services, probes=console.probe_results, machines=console.machines,
    )  # fmt: skip
    edges.missing, edges.rng = chance.edges_missing, np.random.default_rng(seed)
    gatherer = replace_edges(console, edges)
    occurrences = schedule_from(ENDS, DAYS, seed=seed).occurrences
    rng = np.random.default_rng(seed)
    for one in occurrences:
        if one.story in TALES and ENDS - DAYS * 86_400 + 7200 < one.start < ENDS - 1800:
            end = min(one.end, one.start + 2400, ENDS)
            case = _case(console, edges, gatherer, one.story, one.start - 600, end)
            yield _shaken(case, one.story, TRUE[one.story], rng, chance)
    for start in _between(occurrences, rng, quiet):
        story = str(rng.choice(list(TALES)))
        case = _case(console, edges, gatherer, story, start, start + 1800)
        disturbed = any(o.story in QUIRKS and o.start < start + 1800 and o.end > start for o in occurrences)
        run = _shaken(case, "", True_((), ()), rng, chance)
        yield replace(run, fault="disturbed" if disturbed else "quiet")


def replace_edges(console: Parts, edges: Edges) -> Gatherer:
    """The console's way to gather, with other edges."""
    gatherer = console.trails.gatherer
    return Gatherer(edges=edges, lines=gatherer.lines, said=gatherer.said, happened=gatherer.happened)


def _case(console: Parts, edges: Edges, gatherer: Gatherer, story: str, start: float, end: float) -> Case:
    seen = TALES[story].seen
    felt = edges.felt(seen["application"]) if "application" in seen else [(seen["host"], "")]
    return gatherer.gather(felt, start, end).case


def _between(occurrences: Iterable[Occurrence], rng: np.random.Generator, count: int) -> Iterator[float]:
    """Where stretches of half an hour begin that no story touches."""
    busy = [(o.start - 3600, o.end + 3600) for o in occurrences if o.story in TALES]
    found = 0
    for _ in range(count * 50):
        start = float(rng.uniform(ENDS - DAYS * 86_400 + 3 * 3600, ENDS - 3600))
        if found < count and not any(a < start + 1800 and start < b for a, b in busy):
            found += 1
            yield start


def _shaken(case: Case, story: str, true: True_, rng: np.random.Generator, chance: Chance) -> Run:
    """The same with data lost and clocks that are off, as the chances have it."""
    off = {known: float(rng.uniform(-chance.clocks, chance.clocks)) for known in {x.thing.host for x in case.lines}}
    values = case.values.copy()
    lines: list[Line] = []
    for row, one in enumerate(case.lines):
        by = off[one.thing.host]
        values[row] = np.interp(case.times - by, case.times, values[row])
        lines.append(replace(one, clock=one.clock + abs(by) * 0.5))
    values[rng.random(values.shape) < chance.lost] = np.nan
    kept: list[Happening] = []
    lost: list[Happening] = []
    for happening in case.happenings:
        by = off.get(happening.thing.host, 0.0)
        moved = replace(happening, at=happening.at + by, uncertainty=happening.uncertainty + abs(by) * 0.5)
        (lost if rng.random() < chance.lost else kept).append(moved)
    shaken = replace(case, lines=lines, values=values, happenings=kept)
    return Run(shaken, _truth(lines, kept, lost, true.fits, true.hosts), story)


def _truth(
    lines: Iterable[Line], kept: Iterable[Happening], lost: Iterable[Happening], fits: Callable[[Thing], bool],
    hosts: tuple[str, ...],
) -> frozenset[Thing]:  # fmt: skip
    """What is right of all that may be named; where what told of it was lost, its host or service is."""
    every = {*(one.thing for one in lines), *(one.thing for one in kept)}
    right = {thing for thing in every if fits(thing)}
    gone = {one.thing for one in lost if fits(one.thing)} - right
    if gone and not right:
        right = {thing for thing in every if thing.host in hosts and thing.kind in ("service", "host", "machine")}
    return frozenset(right)
