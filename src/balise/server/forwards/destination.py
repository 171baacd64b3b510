"""Where things are sent on to."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol, TypeVar

T_contra = TypeVar("T_contra", contravariant=True)
TIME_LIMIT = 10.0


class Undelivered(Exception):
    """The other side did not take it, or nobody knows whether it did: it is sent again. The message says why."""


class Destination(Protocol[T_contra]):
    """Another system. One thread speaks to it."""

    def send(self, items: Sequence[T_contra]) -> int:
        """Answers how many of these the other side will never take; done when it has the others.

        Raises:
            Undelivered: some of them may not have arrived.
        """

    def close(self) -> None: ...
