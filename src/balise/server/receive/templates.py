"""What bytes of shapes said last. Bytes that say the same again are told by comparing them, in a tenth of the time that
a digest takes: in a fleet most bodies say what another host's said."""

from __future__ import annotations

import threading
from dataclasses import dataclass
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray

from balise.core.series.shapes import Shape, digest_of


@dataclass(slots=True)
class _Template:
    """`mask` has no bits where numbers stand, and all of them elsewhere; `said` is what was left, with its digest."""

    mask: NDArray[np.uint8]
    said: tuple[bytes, bytes]


class Templates:
    """One for each shape, as long as there are no more than `capacity` bytes of them. Safe to use from several
    threads."""

    def __init__(self, capacity: int) -> None:
        self._capacity = capacity
        self._lock = threading.Lock()
        self._held: WeakKeyDictionary[Shape, _Template] = WeakKeyDictionary()
        self._counted = (0, 0)
        """How many there were when none more fitted, and how many bytes they took."""

    def digest(self, shape: Shape, body: bytes) -> bytes:
        """`shape.digest` of bytes."""
        held = self._held.get(shape) or self._made(shape, body)
        if held is None or len(held.mask) != len(body):
            return shape.digest(body)
        left, (said, digest) = (np.frombuffer(body, np.uint8) & held.mask).tobytes(), held.said
        if left != said:
            digest = digest_of(left)
            held.said = left, digest
        return digest

    def _made(self, shape: Shape, body: bytes) -> _Template | None:
        with self._lock:
            if len(self._held) != self._counted[0]:
                self._counted = len(self._held), sum(2 * len(one.mask) for one in self._held.values())
            if self._counted[1] + 2 * len(body) > self._capacity:
                return None
            mask = np.frombuffer(shape.blanked(b"\xff" * len(body)), np.uint8)
            made = self._held[shape] = _Template(mask, (b"", b""))
            self._counted = (-1, 0)
            return made

    def forget(self) -> None:
        with self._lock:
            self._held.clear()
