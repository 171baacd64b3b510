"""Arrays that grow by a row at a time without being copied each time."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

AnyArray = NDArray[Any]
AHEAD = 64
"""Rows that are made ready at once: most growth is by one."""


class Room:
    """Holds the arrays behind those that are used, which are the beginnings of them.

    An array may be put in the place of one that is held; it is then copied at the next growth. What is used of one
    that is held never becomes less.
    """

    def __init__(self, fills: Mapping[str, object]) -> None:
        """`fills` names the arrays, and what a new row of each holds."""
        self._fills = fills
        self._held: dict[str, tuple[AnyArray, int]] = {}
        """Each array with how many of its rows are ready: used, or as new ones are."""

    def grow(self, used: Mapping[str, AnyArray], rows: int) -> dict[str, AnyArray]:
        """The arrays that are named, with `rows` rows more than those that are used now."""
        grown: dict[str, AnyArray] = {}
        for name, fill in self._fills.items():
            now = used[name]
            size = len(now) + rows
            held, ready = self._held.get(name, (now, 0))
            if size > ready or now.base is not held or held.shape[1:] != now.shape[1:]:
                held = self._make_ready(name, fill, now, size)
            grown[name] = held[:size]
        return grown

    def _make_ready(self, name: str, fill: object, used: AnyArray, size: int) -> AnyArray:
        """The array behind one that is used, of which at least `size` rows are ready."""
        held, ready = self._held.get(name, (used, 0))
        if len(held) < size or used.base is not held or held.shape[1:] != used.shape[1:]:
            held, ready = self._larger(used, size), len(used)
        held[ready : size + AHEAD] = fill
        self._held[name] = held, min(len(held), size + AHEAD)
        return held

    @staticmethod
    def _larger(used: AnyArray, size: int) -> AnyArray:
        # What nobody has written to takes no memory.
        held = np.empty((size + max(AHEAD, size // 2), *used.shape[1:]), used.dtype)
        held[: len(used)] = used
        return held
