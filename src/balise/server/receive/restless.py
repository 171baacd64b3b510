"""Senders whose metrics are called otherwise each time, so that the console has to learn them over and over."""

from __future__ import annotations

import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Hashable

SPAN, MOST_LEARNT = 3600.0, 100
"""Seconds, and how often in that time what one sender says of one resource may have to be learnt before it is told."""
MOST_HELD, MOST_TOLD = 20_000, 5


class Restless:
    """Counts what has to be learnt, which those who send the same each time never cause. Safe to use from several
    threads."""

    def __init__(self, clock: Callable[[], float] = time.time) -> None:
        self._clock = clock
        self._lock = threading.Lock()
        self._held: OrderedDict[Hashable, tuple[str, float, int]] = OrderedDict()
        self._many: dict[Hashable, tuple[str, float, int]] = {}
        """Those of them that had to be learnt more often than is told."""

    def learnt(self, whose: Hashable, name: str) -> None:
        """What a sender of this name says of a resource had to be learnt; `whose` is the sender and the resource."""
        now = self._clock()
        with self._lock:
            _, since, count = self._held.pop(whose, (name, now, 0))
            if now - since > SPAN:
                since, count = now, 0
            self._held[whose] = (name, since, count + 1)
            self._many.pop(whose, None)
            if count + 1 > MOST_LEARNT:
                self._many[whose] = self._held[whose]
            if len(self._held) > MOST_HELD:
                gone, _ = self._held.popitem(last=False)
                self._many.pop(gone, None)

    def warnings(self, now: float) -> list[str]:
        """What to say of those that do it at the moment."""
        with self._lock:
            held = list(self._many.values())
        counts: dict[str, int] = {}
        for name, since, count in held:
            if now - since <= SPAN:
                counts[name] = max(counts.get(name, 0), count)
        worst = sorted(counts.items(), key=lambda one: (-one[1], one[0]))
        found = [
            f"{name} sends metrics that differ in more than their values each time ({count} times within the hour): "
            "look for attributes that are made up anew, as request numbers or random names"
            for name, count in worst[:MOST_TOLD]
        ]
        return found + ([f"and so do {len(worst) - MOST_TOLD} other senders"] if len(worst) > MOST_TOLD else [])
