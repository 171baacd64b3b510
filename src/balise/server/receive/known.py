"""Bodies that senders sent before: where their numbers stand, and which series they are."""

from __future__ import annotations

import threading
from collections import Counter, OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from balise.core.series.forms import GroupForm
from balise.core.series.shapes import Shape, digest_of
from balise.store.series.layouts import Layout

I64 = NDArray[np.int64]
F64 = NDArray[np.float64]
EACH = 600
"""About how many bytes a body takes without its shape."""
Sender = tuple[str, int | None]
"""Its name, and the number of its host or token."""
Key = tuple[Sender, bytes, int]
"""A sender, the bytes of a resource, and how many come after them."""
ALIKE = 4
"""Bodies of one sender, resource and length that are told apart."""


class Points(NamedTuple):
    """`times` int64 nanoseconds [n], or [1] when all are of one moment; `values` float64 [n]."""

    times: I64
    values: F64

    @property
    def each_time(self) -> I64:
        """The time of each point [n]."""
        return np.broadcast_to(self.times, self.values.shape)


@dataclass
class KnownBody:
    """A resource's metrics of one sender.

    Args:
        digest: of what its bytes say beside their numbers; empty as long as nobody has said that twice.
        layout: the series of its numbers; None when nothing of it is taken.
        chosen: which of its numbers those are; None for all.
        begun: moments, unix nanoseconds, at which the last series of the layout were nothing yet.
        skipped: how many of its points are not taken.
        mark: Python's keyed hash of what its bytes say beside their numbers; None as long as it was not taken.
    """

    shape: Shape
    digest: bytes
    layout: Layout | None
    chosen: I64 | None = None
    begun: Sequence[int] = ()
    skipped: int = 0
    mark: int | None = field(default=None, repr=False, compare=False)

    @classmethod
    def of(
        cls,
        form: GroupForm,
        layout: Layout | None,
        *,
        chosen: I64 | None = None,
        begun: Sequence[int] = (),
        skipped: int = 0,
    ) -> KnownBody:
        """One of a form."""
        return cls(form.shape, form.digest, layout, chosen, begun, skipped, form.mark)

    def is_said_by(self, rest: bytes) -> bool:
        """Whether bytes say the same beside their numbers. Where that is known, it is told by Python's keyed hash of
        them, in a fourth of the time that a digest takes: of one sender's own bodies 64 bits tell enough."""
        blanked = bytes(self.shape.blanked(rest))
        mark = hash(blanked)
        if self.mark is None and digest_of(blanked) == self.digest:
            self.mark = mark
        if mark == self.mark and not self.digest:
            self.digest = digest_of(blanked)
        return mark == self.mark

    def gather(self, rest: bytes) -> Points:
        """Its points, in the order of the layout."""
        times, values = self.shape.gather(rest)
        if self.chosen is not None:
            times, values = times[self.chosen], values[self.chosen]
        if self.begun:
            times = np.concatenate([times, np.array(self.begun, np.int64)])
            values = np.concatenate([values, np.zeros(len(self.begun))])
        return Points(folded(times), values)


def folded(times: I64) -> I64:
    """Times, or the one that they all are."""
    if len(times) < 2:
        return times
    written = times.tobytes()
    return times[:1] if written == written[:8] * len(times) else times


class KnownBodies:
    """By sender, resource and length, least recently used first out, within `capacity` bytes."""

    def __init__(self, capacity: int) -> None:
        self._capacity = capacity
        self._lock = threading.Lock()
        self._held: OrderedDict[Key, tuple[KnownBody, ...]] = OrderedDict()
        self._shapes: Counter[Shape] = Counter()
        self.size = 0
        self.changes = 0
        """How often something was kept or forgotten, or said again for the first time."""

    def find(self, key: Key, rest: bytes) -> KnownBody | None:
        """What is known of the bytes after a resource, if they say what was said before."""
        for known in self._held.get(key, ()):
            fresh = not known.digest
            if known.is_said_by(rest):
                with self._lock:
                    self.changes += fresh
                    if key in self._held:
                        self._held.move_to_end(key)
                return known
        return None

    def __contains__(self, key: object) -> bool:
        return key in self._held

    def keep(self, key: Key, known: KnownBody) -> None:
        with self._lock:
            self.changes += 1
            others = self._held.pop(key, ())
            self._held[key] = kept = (known, *others)[:ALIKE]
            self._count(known, 1)
            for dropped in others[len(kept) - 1 :]:
                self._count(dropped, -1)
            while self.size > self._capacity and len(self._held) > 1:
                for dropped in self._held.popitem(last=False)[1]:
                    self._count(dropped, -1)

    def _count(self, known: KnownBody, one: int) -> None:
        """Counts what a body takes, and its shape with the first and the last that has it: most are the fleet's."""
        before = self._shapes[known.shape]
        self._shapes[known.shape] += one
        self.size += one * EACH
        if not before or not self._shapes[known.shape]:
            self.size += one * known.shape.size
        if not self._shapes[known.shape]:
            del self._shapes[known.shape]

    def items(self) -> list[tuple[Key, KnownBody]]:
        """All of them, those that were used least recently first; of one key the newest last."""
        with self._lock:
            return [(key, body) for key, held in self._held.items() for body in reversed(held)]

    def forget(self) -> None:
        with self._lock:
            self.changes += 1
            self._held.clear()
            self._shapes.clear()
            self.size = 0
