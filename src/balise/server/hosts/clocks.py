"""How far the clock of each host is off, measured whenever something of it arrives."""

from __future__ import annotations

import math
import threading
from collections import deque
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
SMALL = 1.0
"""Seconds that are not told apart from the way through the network."""
MOST = 6 * 3600.0
"""Seconds beyond which a clock is not followed: windows would have to look back as far for everybody."""
STEADY_FOR = 45.0
STEADY_WITHIN = 30.0
KEPT = 6


@dataclass
class _Clock:
    """Of one host: `told` is what it says itself; the rest is how old its newest point was at each arrival."""

    told: float | None = None
    ages: deque[tuple[float, float]] = field(default_factory=lambda: deque(maxlen=KEPT))

    def behind(self) -> float:
        if self.told is not None:
            return self.told
        if not self.ages:
            return 0.0
        ages = [age for _, age in self.ages]
        low = min(ages)
        if low < SMALL:
            return min(low, 0.0)
        # What is always as old is late by a clock; what gets younger is catching up.
        steady = self.ages[-1][0] - self.ages[0][0] >= STEADY_FOR and max(ages) - low <= STEADY_WITHIN
        return low if steady and len(ages) >= 3 else 0.0


class Clocks:
    """Seconds by which hosts' clocks are behind ours; negative for one that is ahead.

    A sender that says when it sends by its own clock is measured exactly. Of others it is known that nothing is
    newer than now, and what always comes equally old is taken to be behind.
    """

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._clocks: dict[int, _Clock] = {}
        self._behind = np.zeros(0)
        self._are_some_behind = False
        """Whether the clock of any host ever was."""

    def told(self, host: int, behind: float) -> None:
        """A delivery said when it was sent: that was `behind` seconds before it came."""
        if not math.isfinite(behind):
            return
        with self._lock:
            clock = self._clocks.setdefault(host, _Clock())
            clock.told = behind
            self._note(host, clock)

    def aged(self, host: int, newest: float, now: float) -> None:
        """The newest point of a delivery was made at `newest` and came at `now`."""
        with self._lock:
            clock = self._clocks.setdefault(host, _Clock())
            clock.ages.append((now, now - newest))
            if clock.told is None:
                self._note(host, clock)

    def _note(self, host: int, clock: _Clock) -> None:
        if host >= len(self._behind):
            self._behind = np.concatenate([self._behind, np.zeros(host + 256 - len(self._behind))])
        behind = clock.behind()
        self._behind[host] = max(-MOST, min(MOST, behind)) if abs(behind) >= SMALL else 0.0
        self._are_some_behind = self._are_some_behind or behind >= SMALL

    def behind(self, host: int) -> float:
        """Seconds by which a host's clock is behind ours, 0 when that is within the way through the network."""
        return float(self._behind[host]) if host < len(self._behind) else 0.0

    def known(self, host: int) -> float | None:
        """The same as measured; None when a host has not said when it sends."""
        clock = self._clocks.get(host)
        return clock.told if clock else None

    def behind_of(self, hosts: I64) -> F64 | float:
        """By how much the clocks of many hosts are behind, [n]; 0 for those ahead, and in all when all are.

        What the console measures itself of a host with a clock ahead has our time: only the points themselves tell.
        """
        if not self._are_some_behind:
            return 0.0
        known = np.maximum(self._behind, 0.0)
        inside = hosts < len(known)
        found: F64 = np.where(inside, known[np.where(inside, hosts, 0)], 0.0)
        return found if found.any() else 0.0
