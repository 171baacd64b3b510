"""How fast what is kept grows."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable

KNOWN_AFTER = 1800.0
"""Seconds over which sizes are watched before growth is told: the first minutes after a start say nothing."""
EVERY = 20.0


class Growth:
    """Notes how large everything is, in bytes, and tells the pace. Times in unix seconds."""

    def __init__(self, size: Callable[[], int]) -> None:
        self._size = size
        self._sizes: deque[tuple[float, int]] = deque(maxlen=1000)

    def look(self, now: float) -> None:
        if not self._sizes or now - self._sizes[-1][0] >= EVERY:
            self._sizes.append((now, self._size()))

    def per_day(self) -> float | None:
        """Bytes a day, None until they are known."""
        if self._sizes and (known := self._sizes[-1][0] - self._sizes[0][0]) >= KNOWN_AFTER:
            return (self._sizes[-1][1] - self._sizes[0][1]) / known * 86_400
        return None

    def full_in(self, free: float) -> float | None:
        """Days until so many bytes are taken at this pace; None while nothing grows, or nothing is known."""
        grown = self.per_day()
        return max(0.0, free / grown) if grown is not None and grown > 0 else None
