"""Pieces of matrices that were unpacked, kept while there is room: who looks at a stretch looks beside it next."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable

import numpy as np
from numpy.typing import NDArray

F64 = NDArray[np.float64]
MOST_BYTES = 96 << 20


class Unpacked:
    """Holds pairs of arrays by what they were made from; the least used go first."""

    def __init__(self, most_bytes: int = MOST_BYTES) -> None:
        self.most_bytes = most_bytes
        self.held_bytes = 0
        self._lock = threading.Lock()
        self._held: OrderedDict[Hashable, tuple[F64, F64]] = OrderedDict()

    def of(self, key: Hashable, make: Callable[[], tuple[F64, F64]]) -> tuple[F64, F64]:
        """What is held of a key, else what `make` gives. Nobody may write into the arrays."""
        with self._lock:
            found = self._held.get(key)
            if found is not None:
                self._held.move_to_end(key)
                return found
        made = make()
        for one in made:
            one.flags.writeable = False
        with self._lock:
            if key not in self._held:
                self._held[key] = made
                self.held_bytes += _size(made)
                while self.held_bytes > self.most_bytes:
                    self.held_bytes -= _size(self._held.popitem(last=False)[1])
        return made


def _size(pair: tuple[F64, F64]) -> int:
    return sum(one.nbytes for one in pair)
