"""How likely each suspect is the cause, beside none of them: a conditional logit (McFadden 1974).

Each suspect has a use that is the weighted sum of its features, "no cause stands out" one of its own, and the
probabilities are what the exponentials of them share. The weights, in
`balise.core.trail.weights`, were fitted to made-up cases.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from balise.core.trail.evidence import Evidence
from balise.core.trail.suspects import Suspect, matrix
from balise.core.trail.weights import NONE, TOLD, WEIGHTS

F64 = NDArray[np.float64]
MOST_LEANING = 0.7
"""In log odds, how far what people said may move a kind of thing."""

UNREACHED = 1e-18
"""How likely something is why people were called when it came later, or no way leads there, not even a likely one."""
EXACT = 1e-6
"""How near to 1 a share is told apart from it."""
ROLLED_OUT = 1800.0
"""Seconds within which the same change on several hosts is one."""


def nothing_of(evidence: Evidence) -> F64:
    """What speaks for no cause at all: a constant, how weak the strongest is, and how few places departed."""
    strongest = max((shown.strength for shown in evidence.things.values()), default=0.0)
    places = len(evidence.nodes)
    return np.array([1.0, 1.0 - strongest, 1.0 / (1 + places)])


def probabilities(
    suspects: Sequence[Suspect], evidence: Evidence, leaning: Mapping[str, float], weights: F64 = WEIGHTS,
    none: F64 = NONE, *, called: bool = False,
) -> F64:  # fmt: skip
    """Of each suspect how likely it is the cause; what is missing to 1 is that none of them is. When people were
    `called`, what does not reach what they were called for is none of it, however far it went."""
    if not suspects:
        return np.zeros(0)
    use = matrix(suspects) @ weights
    use += [np.clip(leaning.get(one.thing.kind, 0.0), -MOST_LEANING, MOST_LEANING) for one in suspects]
    if called:
        use += [np.log(max(one.features["felt"], UNREACHED)) for one in suspects]
    all_ = np.append(use, nothing_of(evidence) @ none)
    share: F64 = np.exp(all_ - all_.max())
    found: F64 = share[:-1] / share.sum()
    return found


def taken_together(suspects: Sequence[Suspect], sure: F64) -> F64:
    """The same with what was changed alike on several hosts within minutes as one: its first has what all have."""
    found = sure.copy()
    for i in sorted(range(len(suspects)), key=lambda i: suspects[i].first.at):
        if found[i] > 0:
            others = [j for j in same_change(suspects, i) if found[j] > 0]
            found[i] += found[others].sum()
            found[others] = 0.0
    return found


def told(sure: F64) -> F64:
    """How often suspects with such shares are right, which is what is said of how sure it is.

    Of a process and the machine that it slows both are right: they share what is certain, and each is more often right
    than its share says. The shape is a beta calibration (Kull, Silva Filho and Flach 2017), moved by how likely there
    is any cause: nothing stays nothing, what is certain stays certain, and the order stays as it was.
    """
    found: F64 = 1 / (1 + np.exp(-odds_of(sure) @ TOLD))
    return found


def odds_of(sure: F64) -> F64:
    """What the log odds of being right are weighed from, (suspects, 4): the logarithm of each share, that of what is
    left to 1 with its sign turned, a constant, and the log odds of any cause."""
    held = np.clip(sure, UNREACHED, 1 - EXACT)
    any_ = np.clip(sure.sum(), UNREACHED, 1 - EXACT)
    ones = np.ones_like(held)
    return np.stack([np.log(held), -np.log1p(-held), ones, ones * np.log(any_ / (1 - any_))], axis=-1)


def same_change(suspects: Sequence[Suspect], i: int) -> list[int]:
    """Where else the same was changed at the same time, or within minutes after it."""
    one = suspects[i]
    if one.thing.kind != "change":
        return []
    return [
        j
        for j, other in enumerate(suspects)
        if j != i
        and (other.thing.kind, other.thing.name) == (one.thing.kind, one.thing.name)
        and 0 <= other.first.at - one.first.at <= ROLLED_OUT
        and _text(other) == _text(one)
    ]


def _text(suspect: Suspect) -> str:
    return suspect.first.happening.text if suspect.first.happening is not None else ""
