"""What weighs on a host over some moments."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

F64 = NDArray[np.float64]


@dataclass
class Weight:
    """All arrays are [n] over the moments asked for; nothing weighs where they are zero.

    Shares of the processors: `cpu` is used by the host itself, `stolen` by others on its machine, `waiting` for storage.
    `stuck` is how much of its work waits for locks (0 to 1), `slow` how many e-folds slower it answers, `failing` which
    share of its answers are errors, `idle` which share of its work stays away. `heap` and `heat` are shares of what there
    is, `paused` seconds of a pause, `tried` attempts to sign in a second, `full` shares of volumes gained.
    """

    count: int
    full: dict[str, F64] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.cpu, self.stolen, self.waiting, self.stuck, self.slow, self.failing, self.idle = self._none(7)
        self.heap, self.paused, self.heat, self.tried, self.certificate, self.more = self._none(6)

    def _none(self, count: int) -> list[F64]:
        return [np.zeros(self.count) for _ in range(count)]
