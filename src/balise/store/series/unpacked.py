"""Pieces of blocks and matrices that were unpacked, kept while there is room: who looks at a stretch looks again, and
beside it next."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from hashlib import blake2b
from typing import Any

import numpy as np
from numpy.typing import NDArray

from balise.core.series.codec import decode_block, decode_times

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
Arrays = tuple[NDArray[Any], ...]
MOST_BYTES, SHARE = 96 << 20, 4
"""Bytes of all, and of which share of it one may be."""


class Unpacked:
    """Holds arrays by what they were made from; the least used go first."""

    def __init__(self, most_bytes: int = MOST_BYTES) -> None:
        self.most_bytes = most_bytes
        self.held_bytes = 0
        self._lock = threading.Lock()
        self._held: OrderedDict[Hashable, Arrays] = OrderedDict()

    def of(self, key: Hashable, make: Callable[[], Arrays]) -> Arrays:
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
            if key not in self._held and _size(made) <= self.most_bytes // SHARE:
                self._held[key] = made
                self.held_bytes += _size(made)
                while self.held_bytes > self.most_bytes:
                    self.held_bytes -= _size(self._held.popitem(last=False)[1])
        return made

    def block(self, blob: bytes, chosen: NDArray[np.intp] | None, columns: slice = slice(None)) -> F64:
        """What `decode_block` gives, for arrays that leave room for others."""
        rows = None if chosen is None else blake2b(chosen.tobytes(), digest_size=16).digest()
        key = (blake2b(blob, digest_size=16).digest(), rows, columns.start, columns.stop)
        [found] = self.of(key, lambda: (decode_block(blob, chosen, columns),))
        return found

    def times(self, blob: bytes) -> I64:
        """What `decode_times` gives."""
        [found] = self.of(("times", blake2b(blob, digest_size=16).digest()), lambda: (decode_times(blob),))
        return found

    def clear(self) -> None:
        with self._lock:
            self._held.clear()
            self.held_bytes = 0


def _size(arrays: Arrays) -> int:
    return sum(one.nbytes for one in arrays)
