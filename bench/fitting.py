"""Fits the weights of the trail to made-up systems and the ferries, and prints them.

PYTHONPATH=bench .venv/bin/python bench/fitting.py

The likelihood of a conditional logit with "none of them" among the choices is climbed, held back a little towards
nothing so that no weight runs away where cases are few. What a share is told as is fitted to the same cases, by how
often suspects with such a share were right. Its seeds are none of those that judge.
"""

from __future__ import annotations

import sys
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from balise.core.trail.evidence import evidence_of
from balise.core.trail.ranking import nothing_of, odds_of, same_change
from balise.core.trail.suspects import FEATURES, matrix, suspects_of
from balise.core.trail.trail import LEAST_SURE
from worlds.faults import FAULTS
from worlds.laying import Chance, Run, lay
from worlds.skerry import voyages

F64 = NDArray[np.float64]
BUILDING, VOYAGES = 1_000_000, 1_000
ROUNDS, WITHOUT, BETWEEN = 36, 4, 6
"""How often each fault is laid, and how many cases without one there are beside them each time; the ferries sail a
third as often."""
STEPS, PACE, HELD_BACK, NEWTON = 1500, 0.05, 4e-4, 40
FADING = (0.9, 0.999)
"""Of the mean and the square of the slope, from step to step (Adam, Kingma and Ba 2015)."""


@dataclass(frozen=True)
class Choice:
    """One case: the features of its suspects, what speaks for none of them, which of them are right, and for each
    which others are the same change elsewhere."""

    suspects: F64
    none: F64
    right: list[int]
    alike: list[list[int]]


def choice_of(job: tuple[int, str | None, int]) -> Choice:
    """Lays and measures one case; where the cause cannot be seen at all, nothing is the right answer."""
    seed, fault, turn = job
    return _choice(lay(seed, fault, _chance(turn)))


def choices_of(turn: int) -> list[Choice]:
    """Those of the stories of one history of the ferries, and of some stretches without any."""
    return [_choice(run) for run in voyages(VOYAGES + turn, _chance(turn), quiet=BETWEEN)]


def _chance(turn: int) -> Chance:
    return Chance(edges_missing=(0.0, 0.3, 0.6)[turn % 3], lost=(0.0, 0.1)[turn % 2])


def _choice(run: Run) -> Choice:
    evidence = evidence_of(run.case)
    suspects = suspects_of(run.case, evidence)
    right = [i for i, one in enumerate(suspects) if one.thing in run.truth]
    alike = [same_change(suspects, i) for i in range(len(suspects))]
    return Choice(matrix(suspects), nothing_of(evidence), right, alike)


def jobs(rounds: int) -> list[tuple[int, str | None, int]]:
    found: list[tuple[int, str | None, int]] = []
    for turn in range(rounds):
        found += [(BUILDING + turn * 100 + i, fault, turn) for i, fault in enumerate(FAULTS)]
        found += [(BUILDING + turn * 100 + 50 + i, None, turn) for i in range(WITHOUT)]
    return found


def fitted(choices: list[Choice]) -> tuple[F64, F64]:
    """The weights of the features, and those of what speaks for none."""
    most = max(len(one.suspects) for one in choices) + 1
    features = np.zeros((len(choices), most, len(FEATURES)))
    there, right = np.zeros((2, len(choices), most), bool)
    none = np.array([one.none for one in choices])
    for i, one in enumerate(choices):
        features[i, : len(one.suspects)] = one.suspects
        there[i, : len(one.suspects)] = there[i, -1] = True
        right[i, one.right or -1] = True
    held = np.zeros(len(FEATURES) + none.shape[1])
    mean, square = np.zeros_like(held), np.zeros_like(held)
    for step in range(1, STEPS + 1):
        weights, of_none = held[: len(FEATURES)], held[len(FEATURES) :]
        use = features @ weights
        use[:, -1] = none @ of_none
        use[~there] = -1e9
        share = np.exp(use - use.max(axis=1, keepdims=True))
        share /= share.sum(axis=1, keepdims=True)
        wanted = share * right
        wanted /= np.maximum(wanted.sum(axis=1, keepdims=True), 1e-12)
        off = (wanted - share) / len(choices)
        slope = np.concatenate([np.einsum("is,isf->f", off[:, :-1], features[:, :-1]), off[:, -1] @ none])
        slope -= HELD_BACK * held
        mean = FADING[0] * mean + (1 - FADING[0]) * slope
        square = FADING[1] * square + (1 - FADING[1]) * slope**2
        held = held + PACE * (mean / (1 - FADING[0] ** step)) / (np.sqrt(square / (1 - FADING[1] ** step)) + 1e-9)
    return held[: len(FEATURES)], held[len(FEATURES) :]


def told(choices: list[Choice], weights: F64, none: F64) -> F64:
    """What the parts of `odds_of` weigh, by logistic regression over all suspects that would be shown (Newton)."""
    parts: list[F64] = []
    right: list[bool] = []
    for one in choices:
        use = np.append(one.suspects @ weights, one.none @ none)
        share = np.exp(use - use.max())
        share /= share.sum()
        later = {j for others in one.alike for j in others}
        whole = np.array([0.0 if i in later else share[[i, *others]].sum() for i, others in enumerate(one.alike)])
        shown = np.flatnonzero(whole >= LEAST_SURE)
        parts.append(odds_of(whole)[shown])
        right += [i in one.right for i in shown.tolist()]
    odds, was = np.concatenate(parts), np.array(right, np.float64)
    held = np.zeros(odds.shape[1])
    for _ in range(NEWTON):
        said = 1 / (1 + np.exp(-odds @ held))
        bend = odds.T @ (odds * (said * (1 - said))[:, None])
        held = held + np.linalg.solve(bend, odds.T @ (was - said))
    return held


def main() -> None:
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else ROUNDS
    with ProcessPoolExecutor(2) as pool:
        sailed = [one for some in pool.map(choices_of, range(max(1, rounds // 3))) for one in some]
        choices = [*sailed, *pool.map(choice_of, jobs(rounds), chunksize=8)]
    weights, none = fitted(choices)
    for name, weight in zip(FEATURES, weights, strict=True):
        print(f'    "{name}": {weight:.2f},')
    print(f"NONE = np.array([{', '.join(f'{weight:.2f}' for weight in none)}])")
    print(f"TOLD = np.array([{', '.join(f'{weight:.3f}' for weight in told(choices, weights, none))}])")


if __name__ == "__main__":
    main()
