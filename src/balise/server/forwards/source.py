"""What is sent on, from where it was left."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Generic, NamedTuple, Protocol, TypeVar

Places = dict[int, tuple[int, int]]
"""How far a forward was sent: of lines by day, of points under `POINTS`."""
POINTS = -1
T = TypeVar("T")


class Found(NamedTuple, Generic[T]):
    """Some of what is to be sent, in order, how far everything was read with it, and whether there may be more at
    once."""

    items: Sequence[T]
    places: Places
    more: bool = True


class Source(Protocol[T]):
    """Where a forward reads. Used by one thread."""

    def ends(self) -> Places:
        """How far everything goes now."""

    def waiting(self, places: Places) -> int:
        """How much there is beyond these places."""

    def step(self, places: Places) -> Found[T] | None:
        """Some of what is beyond; None for no more."""
