"""The trail: whether the cause is named, on made-up systems whose true cause is known, beside simpler ways to guess it."""

from __future__ import annotations

import time
from collections import defaultdict
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from balise.core.trail.case import Case
from balise.core.trail.evidence import Evidence, evidence_of
from balise.core.trail.graph import Graph
from balise.core.trail.ranking import probabilities
from balise.core.trail.suspects import Suspect, suspects_of
from balise.core.trail.words import SURE
from report import Report
from worlds.faults import FAULTS
from worlds.laying import Chance, Run, lay

F64 = NDArray[np.float64]
JUDGING = 9_000_000
"""Where the seeds begin that judge; the weights were fitted to others (`fitting.py`)."""
SEEDS, QUIET = 20, 60
EDGES, LOST = (0.0, 0.3, 0.6), (0.0, 0.1)
ABSENT = 99
BINS = (0.05, 0.2, 0.4, 0.6, 0.8, 0.95, 1.0001)


@dataclass(frozen=True)
class Judged:
    """What one run came to: by each way at which place the true cause stood, and what was said of how sure it is."""

    run: Run
    places: dict[str, int]
    said: list[tuple[float, bool]]
    sure: float
    seconds: float


def judged(run: Run, ways: dict[str, Callable[[Case], Case]]) -> Judged:
    """Ranks a run whole, with parts of what is known left out, and in simpler ways."""
    began = time.perf_counter()
    evidence = evidence_of(run.case)
    suspects = suspects_of(run.case, evidence)
    sure = probabilities(suspects, evidence, {})
    took = time.perf_counter() - began
    right = [one.thing in run.truth for one in suspects]
    places = {"the trail": _place(sure, right)}
    for name, scores in _simpler(run, suspects, evidence).items():
        places[name] = _place(scores, right)
    for name, without in ways.items():
        case = without(run.case)
        other = evidence_of(case)
        less = suspects_of(case, other)
        places[name] = _place(probabilities(less, other, {}), [one.thing in run.truth for one in less])
    said = [(float(p), ok) for p, ok in zip(sure, right, strict=True) if p >= BINS[0]]
    return Judged(run, places, said, float(sure.max(initial=0.0)), took)


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


WITHOUT: dict[str, Callable[[Case], Case]] = {
    "without edges": lambda case: replace(case, graph=Graph([])),
    "without what is usual": lambda case: replace(case, usual=np.full_like(case.usual, np.nan)),
    "without events": lambda case: replace(case, happenings=[]),
}


def runs(report: Report) -> Iterator[Run]:
    """Each fault with every seed, over the shares of edges that are missing and of data that is lost."""
    for seed in range(report.size(SEEDS, 1)):
        for number, fault in enumerate(FAULTS):
            chance = Chance(edges_missing=EDGES[seed % 3], lost=LOST[seed % 2])
            yield lay(JUDGING + seed * 100 + number, fault, chance)


def run(report: Report) -> None:
    report.title(f"The trail: {len(FAULTS)} faults × {report.size(SEEDS, 1)} seeds on made-up systems of three shapes")
    found = [judged(one, WITHOUT) for one in runs(report)]
    _places(report, found)
    _by_edges(report, found)
    for fault in FAULTS:
        mine = [one.places["the trail"] for one in found if one.run.fault == fault]
        report.figure(fault, f"{_share(mine, 1):6.0%} first, {_share(mine, 3):6.0%} among three")
    _sure(report, found)
    _false(report)
    _speed(report)


def _share(places: list[int], most: int) -> float:
    return sum(place < most for place in places) / max(1, len(places))


def _places(report: Report, found: list[Judged]) -> None:
    for name in found[0].places:
        mine = [one.places[name] for one in found]
        five = np.mean([_share(mine, k) for k in range(1, 6)])
        report.figure(
            name, f"{_share(mine, 1):6.1%} first, {_share(mine, 3):6.1%} among three, average at 5 {five:6.1%}"
        )


def _by_edges(report: Report, found: list[Judged]) -> None:
    for missing, (first, three) in {0.0: (0.90, 0.99), 0.3: (0.0, 0.0), 0.6: (0.75, 0.92)}.items():
        mine = [one.places["the trail"] for i, one in enumerate(found) if EDGES[i // len(FAULTS) % 3] == missing]
        if not mine:
            continue
        name = f"with {missing:.0%} of the edges missing"
        if first:
            report.budget(f"{name}, first", _share(mine, 1), first, most=False)
            report.budget(f"{name}, among three", _share(mine, 3), three, most=False)
        else:
            report.figure(name, f"{_share(mine, 1):6.1%} first, {_share(mine, 3):6.1%} among three")


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


def _false(report: Report) -> None:
    """How often somebody is accused where there is nothing, or nothing but disturbances."""
    for name, quirks, most in (("quiet spans", 0, 0.02), ("disturbances alone", 4, 0.05)):
        accused: dict[bool, int] = defaultdict(int)
        for seed in range(report.size(QUIET, 2)):
            one = judged(lay(JUDGING + 500_000 + seed, None, Chance(quirks=quirks)), {})
            accused[one.sure >= SURE] += 1
        report.budget(f"a cause is named for {name}", accused[True] / sum(accused.values()), most, most=True)


def _speed(report: Report) -> None:
    for hosts in (30, report.size(500, 40)):
        took = [judged(lay(JUDGING + i, "query", Chance(hosts=hosts)), {}).seconds for i in range(3)]
        series = len(lay(JUDGING, "query", Chance(hosts=hosts)).case.lines)
        report.figure(f"ranking, {hosts} hosts, {series:,} series", f"{min(took) * 1e3:8.0f} ms")
