"""How many messages one sender may say."""

from __future__ import annotations

PER_SECOND, BURST = 5_000.0, 50_000.0


class Pace:
    """Fills up at a steady rate and is drawn on by messages. Times in seconds of a clock that only goes forward."""

    def __init__(self, now: float, *, per_second: float = PER_SECOND, burst: float = BURST) -> None:
        self._rate = per_second
        self._burst = burst
        self._left = burst
        self._at = now

    def draw(self, count: int, now: float) -> int:
        """How many of these may be said now; the others are too many."""
        self._fill(now)
        allowed = min(count, int(self._left))
        self._left -= allowed
        return allowed

    def wait(self, count: int, now: float) -> float:
        """Draws all of these, and answers for how many seconds their sender has to wait then."""
        self._fill(now)
        self._left -= count
        return max(0.0, -self._left / self._rate)

    def _fill(self, now: float) -> None:
        self._left = min(self._burst, self._left + self._rate * max(0.0, now - self._at))
        self._at = now
