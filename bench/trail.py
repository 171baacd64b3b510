"""The trail: whether the cause is named, on made-up systems and on the demo's ferries, beside simpler ways to guess it."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from balise.core.trail.case import Case
from balise.core.trail.evidence import Evidence, evidence_of
from balise.core.trail.graph import Graph
from balise.core.trail.ranking import probabilities, taken_together, told
from balise.core.trail.suspects import Suspect, suspects_of
from balise.core.trail.words import SURE
from report import Report
from worlds.faults import FAULTS
from worlds.fleet import measured
from worlds.laying import Chance, Run, lay
from worlds.skerry import voyages

F64 = NDArray[np.float64]
JUDGING, VOYAGES = 9_000_000, 9_000
"""Where the seeds begin that judge; the weights were fitted to others (`fitting.py`)."""
SEEDS, QUIET = 20, 60
BETWEEN = 6
"""Stretches of each voyage in which no story happens."""
EDGES, LOST = (0.0, 0.3, 0.6), (0.0, 0.1)
ABSENT = 99
BINS = (0.05, 0.2, 0.4, 0.6, 0.8, 0.95, 1.0001)
NOTHING = ("", "quiet", "disturbed")


@dataclass(frozen=True)
class Judged:
    """What one run came to: by each way at which place the true cause stood, and what was said of how sure it is."""

    world: str
    fault: str
    missing: float
    places: dict[str, int]
    said: list[tuple[float, bool]]
    sure: float


def judged(run: Run, world: str, missing: float, ways: dict[str, Callable[[Case], Case]]) -> Judged:
    """Ranks a run whole, with parts of what is known left out, and in simpler ways."""
    evidence = evidence_of(run.case)
    suspects = suspects_of(run.case, evidence)
    sure = taken_together(suspects, probabilities(suspects, evidence, {}))
    right = [one.thing in run.truth for one in suspects]
    places = {"the trail": _place(sure, right)}
    for name, scores in _simpler(run, suspects, evidence).items():
        places[name] = _place(scores, right)
    for name, without in ways.items():
        case = without(run.case)
        other = evidence_of(case)
        less = suspects_of(case, other)
        found = taken_together(less, probabilities(less, other, {}))
        places[name] = _place(found, [one.thing in run.truth for one in less])
    said_of = told(sure)
    said = [(float(p), ok) for p, ok in zip(said_of, right, strict=True) if p >= BINS[0]]
    return Judged(world, run.fault, missing, places, said, float(said_of.max(initial=0.0)))


def _place(scores: F64, right: list[bool]) -> int:
    order = np.argsort(-np.asarray(scores), kind="stable").tolist()
    return next((place for place, i in enumerate(order) if right[i]), ABSENT)


def _simpler(run: Run, suspects: list[Suspect], evidence: Evidence) -> dict[str, F64]:
    """Chance, the largest deviation, the earliest, and a walk at random against the edges from where it is felt."""
    rng = np.random.default_rng(len(suspects))
    return {
        "chance": rng.random(len(suspects)),
        "largest deviation first": np.array([one.shown.strength for one in suspects]),
        "earliest first": np.array([-one.first.at for one in suspects]),
        "a random walk on the edges": _walked(run.case, suspects, evidence),
    }


def _walked(case: Case, suspects: list[Suspect], evidence: Evidence) -> F64:
    """Where a walk ends most that goes to whom a place suffers with, by how far that went, and begins anew now and then."""
    nodes = sorted(evidence.nodes)
    if not nodes:
        return np.zeros(len(suspects))
    strength = np.array([evidence.nodes[node].strength for node in nodes])
    ways = [case.graph.reached(node) for node in nodes]
    to = np.array([[way[other].strength if other in way else 0.0 for way in ways] for other in nodes]) * strength
    to /= np.maximum(to.sum(axis=1, keepdims=True), 1e-12)
    begin = np.array([1.0 if node in case.felt else 0.02 for node in nodes])
    begin /= begin.sum()
    at = begin
    for _ in range(40):
        at = 0.15 * begin + 0.85 * at @ to
    held = dict(zip(nodes, at.tolist(), strict=True))
    return np.array([held.get(one.thing.node, 0.0) for one in suspects])


def _no_edges(case: Case) -> Case:
    return replace(case, graph=Graph([]))


def _no_baseline(case: Case) -> Case:
    return replace(case, usual=np.full_like(case.usual, np.nan))


def _no_events(case: Case) -> Case:
    keep = [row for row, line in enumerate(case.lines) if line.metric]
    return replace(
        case, happenings=[], lines=[case.lines[row] for row in keep], values=case.values[keep], usual=case.usual[keep],
        spread=case.spread[keep],
    )  # fmt: skip


WITHOUT: dict[str, Callable[[Case], Case]] = {
    "without edges": _no_edges, "without what is usual": _no_baseline, "without events": _no_events,
}  # fmt: skip


def _made(seed: int) -> list[Judged]:
    """Each fault once, on systems of this seed."""
    chance = _chance(seed)
    runs = [lay(JUDGING + seed * 100 + number, fault, chance) for number, fault in enumerate(FAULTS)]
    return [judged(run, "made-up systems", chance.edges_missing, WITHOUT) for run in runs]


def _sailed(seed: int) -> list[Judged]:
    """The stories of one history of the ferries, and some stretches without any."""
    chance = _chance(seed)
    runs = voyages(VOYAGES + seed, chance, quiet=BETWEEN)
    return [judged(run, "the ferries", chance.edges_missing, WITHOUT if run.truth else {}) for run in runs]


def _calm(job: tuple[int, int]) -> Judged:
    """A made-up system in which nothing is wrong, with so many disturbances at the most."""
    seed, quirks = job
    run = lay(JUDGING + 500_000 + seed, None, Chance(quirks=quirks))
    return judged(replace(run, fault="disturbed" if quirks else "quiet"), "made-up systems", 0.0, {})


def _chance(seed: int) -> Chance:
    return Chance(edges_missing=EDGES[seed % 3], lost=LOST[seed % 2])


def run(report: Report) -> None:
    seeds, quiet = report.size(SEEDS, 1), report.size(QUIET, 2)
    report.title(f"The trail: {len(FAULTS)} faults on made-up systems and the ferries' stories, × {seeds} seeds each")
    with ProcessPoolExecutor(2) as pool:
        found = [one for some in pool.map(_made, range(seeds)) for one in some]
        if not report.quick:
            found += [one for some in pool.map(_sailed, range(seeds)) for one in some]
        found += pool.map(_calm, [(seed, quirks) for quirks in (0, 4) for seed in range(quiet)], chunksize=4)
    happened = [one for one in found if one.fault not in NOTHING]
    _places(report, happened)
    _by_edges(report, happened)
    _by_fault(report, happened)
    _sure(report, found)
    _false(report, [one for one in found if one.fault in NOTHING])
    _speed(report)
    measured(report)


def _share(judged: Sequence[Judged], most: int, way: str = "the trail") -> float:
    return sum(one.places[way] < most for one in judged) / max(1, len(judged))


def _places(report: Report, found: list[Judged]) -> None:
    for way in found[0].places:
        five = np.mean([_share(found, k, way) for k in range(1, 6)])
        first, three = _share(found, 1, way), _share(found, 3, way)
        report.figure(way, f"{first:6.1%} first, {three:6.1%} among three, average at 5 {five:6.1%}")
    for world in sorted({one.world for one in found}):
        mine = [one for one in found if one.world == world]
        report.figure(world, f"{_share(mine, 1):6.1%} first, {_share(mine, 3):6.1%} among three, of {len(mine)}")


def _by_edges(report: Report, found: list[Judged]) -> None:
    for missing, (first, three) in {0.0: (0.90, 0.99), 0.3: (0.0, 0.0), 0.6: (0.75, 0.92)}.items():
        mine = [one for one in found if one.missing == missing]
        if not mine:
            continue
        name = f"with {missing:.0%} of the edges missing"
        if first:
            report.budget(f"{name}, first", _share(mine, 1), first, most=False)
            report.budget(f"{name}, among three", _share(mine, 3), three, most=False)
        else:
            report.figure(name, f"{_share(mine, 1):6.1%} first, {_share(mine, 3):6.1%} among three")


def _by_fault(report: Report, found: list[Judged]) -> None:
    for fault in dict.fromkeys(one.fault for one in found):
        mine = [one for one in found if one.fault == fault]
        report.figure(fault, f"{_share(mine, 1):6.0%} first, {_share(mine, 3):6.0%} among three, of {len(mine)}")


def _sure(report: Report, found: list[Judged]) -> None:
    """Whether what is said to be so likely is so often right."""
    said = [pair for one in found for pair in one.said]
    report.figure("Brier score of what is said", f"{np.mean([(p - ok) ** 2 for p, ok in said]):.3f}")
    for low, high in pairwise(BINS):
        mine = [(p, ok) for p, ok in said if low <= p < high]
        if mine:
            report.figure(
                f"said {low:.0%} to {min(high, 1):.0%}",
                f"{np.mean([p for p, _ in mine]):6.1%} said, {np.mean([ok for _, ok in mine]):6.1%} right, of {len(mine)}",
            )


def _false(report: Report, found: list[Judged]) -> None:
    """How often somebody is accused where there is nothing, or nothing but disturbances."""
    for fault, name, most in (("quiet", "quiet spans", 0.02), ("disturbed", "disturbances alone", 0.05)):
        mine = [one for one in found if one.fault == fault]
        accused = sum(one.sure >= SURE for one in mine) / max(1, len(mine))
        report.budget(f"a cause is named for {name}, of {len(mine)}", accused, most, most=True)


def _speed(report: Report) -> None:
    for hosts in (30, report.size(500, 40)):
        took = []
        for seed in range(3):
            case = lay(JUDGING + seed, "query", Chance(hosts=hosts)).case
            began = time.perf_counter()
            evidence = evidence_of(case)
            probabilities(suspects_of(case, evidence), evidence, {})
            took.append(time.perf_counter() - began)
        report.figure(f"ranking, {hosts} hosts, {len(case.lines):,} series", f"{min(took) * 1e3:8.0f} ms")
