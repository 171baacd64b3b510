"""Arrays that grow by a row at a time without being copied each time."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

AnyArray = NDArray[Any]


class Room:
    """Holds the arrays behind those that are used, which are the beginnings of them.

    An array may be put in the place of one that is held; it is then copied at the next growth.
    """

    def __init__(self, fills: Mapping[str, object]) -> None:
        """`fills` names the arrays, and what a new row of each holds."""
        self._fills = fills
        self._held: dict[str, AnyArray] = {}

    def grow(self, used: Mapping[str, AnyArray], rows: int) -> dict[str, AnyArray]:
        """The arrays that are named, with `rows` rows more than those that are used now."""
        grown: dict[str, AnyArray] = {}
        for name, fill in self._fills.items():
            now, held = used[name], self._held.get(name)
            size = len(now) + rows
            if held is None or now.base is not held or len(held) < size or held.shape[1:] != now.shape[1:]:
                held = self._held[name] = self._larger(now, size)
            made = grown[name] = held[:size]
            made[len(now) :] = fill
        return grown

    @staticmethod
    def _larger(used: AnyArray, size: int) -> AnyArray:
        # What nobody has written to takes no memory.
        held = np.empty((size + max(64, size // 2), *used.shape[1:]), used.dtype)
        held[: len(used)] = used
        return held
