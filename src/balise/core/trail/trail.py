"""The whole of it: from a case to the likely causes, with what speaks for them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from balise.core.trail.case import Case
from balise.core.trail.evidence import Evidence, Sign, evidence_of
from balise.core.trail.ranking import probabilities, same_change, taken_together, told
from balise.core.trail.suspects import Suspect, suspects_of
from balise.core.trail.words import Because, Clock, because, nothing, sentence, what

MOST_SUSPECTS, ALWAYS = 10, 3
LEAST_SURE, NEVER = 0.01, 0.0005
"""Below which a suspect is not named, unless it is one of the first three; and below which it is no suspect at all."""
UNSEEN = 0.4
"""How much of what is sure is left when nothing departed where people were called: nothing tells that it is why."""


@dataclass(frozen=True)
class Ranked:
    """One suspect, and how likely it is the cause."""

    suspect: Suspect
    sure: float
    what: str
    because: Sequence[Because]

    @property
    def until(self) -> float | None:
        """When it ended, if that is known."""
        ends = [s.happening.until for s in self.suspect.shown.signs if s.happening is not None]
        return max((end for end in ends if end is not None), default=None)


@dataclass(frozen=True)
class Trail:
    """What a case comes to: a sentence, the suspects with the likeliest first, and all that departed in its order."""

    sentence: str
    suspects: Sequence[Ranked]
    departed: Sequence[Sign]

    @property
    def sure(self) -> float:
        """How likely the first suspect is the cause."""
        return self.suspects[0].sure if self.suspects else 0.0


def trail_of(case: Case, clock: Clock, of_lines: Sequence[Sign] | None = None) -> Trail:
    """Ranks what may have caused what is felt. `clock` says how moments are told, `of_lines` is as in `evidence_of`."""
    evidence = evidence_of(case, of_lines)
    weighed = suspects_of(case, evidence)
    sure = taken_together(weighed, probabilities(weighed, evidence, case.leaning, called=case.called is not None))
    if case.called is not None and not _shows_where_it_is_felt(case, evidence):
        sure = sure * UNSEEN
    places = enumerate(np.argsort(-sure, kind="stable")[:MOST_SUSPECTS].tolist())
    order = [i for place, i in places if sure[i] >= LEAST_SURE or (place < ALWAYS and sure[i] >= NEVER)]
    others = max(0, len(evidence.nodes) - 1)
    said_of = told(sure)
    ranked = [_ranked(weighed, i, float(said_of[i]), others) for i in order]
    departed = [sign for sign in evidence.signs if sign.source != "change"]
    first = ranked[0] if ranked else None
    said = sentence(first.suspect, first.what, first.sure, len(departed), clock) if first else nothing(len(departed))
    return Trail(said, ranked, departed)


def _shows_where_it_is_felt(case: Case, evidence: Evidence) -> bool:
    hosts = {host for host, _ in case.felt}
    return any(node in case.felt or node[0] in hosts for node in evidence.nodes)


def _ranked(weighed: Sequence[Suspect], i: int, sure: float, others: int) -> Ranked:
    also = sorted({weighed[j].thing.host for j in same_change(weighed, i)} - {weighed[i].thing.host})
    return Ranked(weighed[i], sure, what(weighed[i], also), because(weighed[i], others))
