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
        return {name: self._grown(name, used[name], rows, fill) for name, fill in self._fills.items()}

    def _grown(self, name: str, used: AnyArray, rows: int, fill: object) -> AnyArray:
        size = len(used) + rows
        held = self._held.get(name)
        if held is None or used.base is not held or held.shape[1:] != used.shape[1:] or len(held) < size:
            held = np.full((size + max(64, size // 8), *used.shape[1:]), fill, used.dtype)
            held[: len(used)] = used
            self._held[name] = held
        return held[:size]
