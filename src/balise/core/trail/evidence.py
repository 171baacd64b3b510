"""What departed, brought together by thing and by node: when first, how far, and in how many ways it shows."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from balise.core.trail.case import Case
from balise.core.trail.departing import Departed, departed
from balise.core.trail.sorts import is_worse
from balise.core.trail.things import Happening, Line, Node, Sort, Source, Thing

F64 = NDArray[np.float64]
FULL = 40.0
"""Deviations that are as strong as it gets."""
_OF_BEST = 0.3
"""Of its farthest departure, how far another must have gone to say when a thing departed."""
BEFORE_ASKED = 1200.0
"""Seconds before the stretch that is asked about within which something is evidence."""
_UNUSUAL = 0.5
"""Of a happening, how usual it may be at this hour to be evidence."""


@dataclass(frozen=True)
class Sign:
    """One thing that departed in one way: a series that left its usual, or something that began."""

    thing: Thing
    source: Source
    at: float
    uncertainty: float
    deviation: float
    sort: Sort
    line: Line | None = None
    happening: Happening | None = None
    before: float = math.nan
    during: float = math.nan
    varied: float = math.nan
    """How much it varied before: one deviation."""

    @cached_property
    def strength(self) -> float:
        """0 to 1, by how far it went; what has no measure counts as little."""
        return min(1.0, math.log1p(_size(self)) / math.log1p(FULL))

    @property
    def worse(self) -> bool:
        return self.line is None or is_worse(self.sort, self.deviation)


@dataclass(frozen=True)
class Shown:
    """All signs of one thing or of one node."""

    signs: Sequence[Sign]

    @cached_property
    def strength(self) -> float:
        return max((sign.strength for sign in self.signs), default=0.0)

    def first(self) -> Sign:
        """The earliest sign of those that went far enough to tell."""
        least = _OF_BEST * max(_size(sign) for sign in self.signs)
        return min((s for s in self.signs if _size(s) >= least), key=lambda s: s.at)

    def worst(self) -> Sign:
        """What tells best what is suffered: a trouble rather than less work, a series rather than lines."""
        return max(self.signs, key=lambda s: (s.worse, s.source == "series", s.strength))

    @property
    def sources(self) -> frozenset[Source]:
        return frozenset(sign.source for sign in self.signs)

    @property
    def worse(self) -> bool:
        return any(sign.worse for sign in self.signs)

    @cached_property
    def takes(self) -> bool:
        """Whether it is busier, rather than waiting for others."""
        busier = max((s.strength for s in self.signs if s.sort == "saturation" and s.worse), default=0.0)
        return busier > max((s.strength for s in self.signs if s.sort == "waiting" and s.worse), default=0.0)


def _size(sign: Sign) -> float:
    return 5.0 if math.isnan(sign.deviation) else abs(sign.deviation)


@dataclass(frozen=True)
class Evidence:
    """Everything that departed in a case, in the order in which it did."""

    signs: Sequence[Sign]
    things: dict[Thing, Shown]
    nodes: dict[Node, Shown]


def signs_of_lines(case: Case) -> list[Sign]:
    """The lines of a case that departed."""
    clock = np.array([line.clock for line in case.lines])
    found = departed(
        case.times, case.values, case.first_step, units=[line.unit for line in case.lines], usual=case.usual,
        spread=case.spread, clock=clock,
    )  # fmt: skip
    return list(_of_lines(case.lines, found))


def evidence_of(case: Case, of_lines: Sequence[Sign] | None = None) -> Evidence:
    """Measures the lines and takes up what began. What happens each week at this hour is none, nor what had happened
    long before the stretch that is asked about. `of_lines` are the signs of its lines, if they were measured before."""
    early = case.start - BEFORE_ASKED
    every = (*(signs_of_lines(case) if of_lines is None else of_lines), *_of_happenings(case.happenings))
    signs = [sign for sign in every if sign.at + sign.uncertainty >= early]
    signs.sort(key=lambda sign: sign.at)
    things: dict[Thing, list[Sign]] = {}
    nodes: dict[Node, list[Sign]] = {}
    for sign in signs:
        things.setdefault(sign.thing, []).append(sign)
        if sign.source != "change":
            nodes.setdefault(sign.thing.node, []).append(sign)
    return Evidence(
        signs,
        {thing: Shown(held) for thing, held in things.items()},
        {node: Shown(held) for node, held in nodes.items()},
    )


def _of_lines(lines: Sequence[Line], found: Departed) -> Iterable[Sign]:
    for row in np.flatnonzero(~np.isnan(found.at)).tolist():
        line = lines[row]
        if line.sort == "other":
            continue
        yield Sign(
            thing=line.thing,
            source="series" if line.metric else "pattern",
            at=float(found.at[row]),
            uncertainty=float(found.uncertainty[row]),
            deviation=float(found.deviation[row]),
            sort=line.sort,
            line=line,
            before=float(found.before[row]),
            during=float(found.during[row]),
            varied=float(found.varied[row]),
        )


def _of_happenings(happenings: Iterable[Happening]) -> Iterable[Sign]:
    for one in happenings:
        if one.usual < _UNUSUAL:
            yield Sign(one.thing, one.source, one.at, one.uncertainty, one.deviation, one.sort, happening=one)


def later(a: Sign, b: Sign) -> float:
    """How likely b departed after a, by both moments and their uncertainties (normal)."""
    return after(b.at, a.at, math.hypot(max(a.uncertainty, 1.0), max(b.uncertainty, 1.0)))


def after(second: float, first: float, uncertainty: float) -> float:
    """How likely a moment is after another, when both together may be off by so many seconds: 0.5 for the same."""
    return 0.5 * (1 + math.erf((second - first) / (uncertainty / 1.5 * math.sqrt(2))))
