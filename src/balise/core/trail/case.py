"""One case: where something is felt, and everything that was gathered around it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from balise.core.trail.graph import Graph
from balise.core.trail.things import Happening, Line, Node

F64 = NDArray[np.float64]


@dataclass(frozen=True)
class Case:
    """What is asked, and what was gathered.

    Args:
        start, end: the stretch, unix seconds.
        felt: where people notice it; empty for anywhere.
        times: where steps begin [n], unix seconds; the stretch begins at one of them.
        lines: what each series is; `values` [s, n] with NaN for nothing.
        usual: what is usual by the hour of the week [s, n], and by how much that varies, `spread` [s]; NaN where it is
            not known.
        called: when people were called, unix seconds; None when nobody was. What began later is no cause of that.
        about: the hosts and metrics that they were called for; empty for what has none.
        leaning: by kind of thing how much more (or less) likely than by evidence alone people found it to be, in log
            odds.
    """

    start: float
    end: float
    felt: frozenset[Node]
    times: F64
    lines: Sequence[Line]
    values: F64
    usual: F64
    spread: F64
    happenings: Sequence[Happening]
    graph: Graph
    leaning: Mapping[str, float] = field(default_factory=dict)
    called: float | None = None
    about: frozenset[tuple[str, str]] = frozenset()

    @property
    def first_step(self) -> int:
        return int(np.searchsorted(self.times, self.start))
