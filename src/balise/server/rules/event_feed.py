"""The events that a rule counts."""

from __future__ import annotations

import threading
from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from balise.core.rules.counting import Counting, Distinct
from balise.core.rules.heard import Heard
from balise.core.rules.late import Late
from balise.server.rules.groups import MOST_GROUPS, Groups

F64 = NDArray[np.float64]
MOST_WAITING = 200_000
"""Events of a rule that were found and not counted yet."""


class Found(NamedTuple):
    """An event that a rule is about: its time in unix seconds, what it has of `each`, and the value that is counted."""

    at: float
    values: dict[str, str]
    host: int | None
    value: str = ""
    first: float = -np.inf
    """When the like of it was heard for the first time, if that was kept."""
    id: str = ""


class EventFeed:
    """Counts what was found. Events are handed over by whoever compares them; `take_in` is called at each tick."""

    def __init__(
        self, over: float, *, distinct: bool, groups: Groups, heard: Heard, late: Late, compares: bool = False
    ) -> None:
        """With `compares`, nothing is known before it is known how many are usual."""
        self._compares = compares
        self._usual: Mapping[str, float] | None = None
        self._counted: Counting | Distinct = Distinct(over) if distinct else Counting(over)
        self._groups = groups
        self._heard = heard
        self._late = late
        self._lock = threading.Lock()
        self._waiting: list[Found] = []
        self._known: tuple[list[Found], list[Found]] | None = None
        self.dropped = 0
        self.learnt = False
        """Whether it is known what was there before; until then what comes waits."""

    def hand_over(self, found: Sequence[Found]) -> None:
        with self._lock:
            room = MOST_WAITING - len(self._waiting)
            self._waiting.extend(found[:room])
            self.dropped += max(0, len(found) - room)

    def learn(self, known: list[Found], since: list[Found]) -> None:
        """What was before the rule was taken up: what is known of long ago counts, but is nothing new; what came since
        that was kept may be. What was handed over meanwhile is left out of both."""
        with self._lock:
            came = {one.id for one in self._waiting if one.id}
            self._known = [f for f in known if f.id not in came], [f for f in since if f.id not in came]

    def take_in(self, now: float) -> None:
        """Counts what was handed over."""
        with self._lock:
            known, self._known = self._known, None
            self.learnt = self.learnt or known is not None
            waiting: list[Found] = []
            if self.learnt:
                waiting, self._waiting = self._waiting, []
        if known is not None:
            groups, times = self._count(known[0], now)
            self._heard.know(groups, times)
            begun = np.array([one.first for one in known[0]], np.float64)
            if len(begun) == len(groups):
                self._heard.first[groups] = begun
            waiting = [*known[1], *waiting]
        groups, times = self._count(waiting, now)
        self._late.note(groups, times, now)
        self._heard.note(groups, np.minimum(times, now))

    def _count(self, found: Sequence[Found], now: float) -> tuple[NDArray[np.int64], F64]:
        placed = [(self._groups.of(f.values, f.host, f.values.get("host", ""), most=MOST_GROUPS), f) for f in found]
        mine = [(group, f) for group, f in placed if group is not None]
        self._heard.grow(len(self._groups))
        self._counted.grow(len(self._groups))
        groups = np.array([group for group, _ in mine], np.int64)
        times = np.array([f.at for _, f in mine], np.float64)
        if isinstance(self._counted, Distinct):
            self._counted.observe(groups, times, [f.value for _, f in mine], now)
        else:
            self._counted.observe(groups, times, now)
        return groups, times

    def compare(self, usual: Mapping[str, float]) -> None:
        """From now on values are how many times as many there are as is usual of their pattern; at least one is."""
        self._usual = usual

    def values(self, now: float, groups: int) -> F64:
        """How many there are of each group; NaN as long as nothing is known."""
        self._counted.grow(groups)
        if not self.learnt or (self._compares and self._usual is None):
            return np.full(groups, np.nan)
        values = self._counted.values(now)
        if self._usual is None:
            return values
        patterns = (group.attributes.get("pattern", "") for group in self._groups.all[:groups])
        usual = np.array([max(self._usual.get(pattern, 0.0), 1.0) for pattern in patterns], np.float64)
        return np.asarray(values / usual, np.float64)
