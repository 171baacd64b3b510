"""Where events are sent on to."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from balise.api.events import Event

TIME_LIMIT = 10.0


class Undelivered(Exception):
    """The other side did not take it, or nobody knows whether it did: it is sent again. The message says why."""


class Destination(Protocol):
    """Another system. One thread speaks to it."""

    def send(self, events: Sequence[Event]) -> int:
        """Answers how many of these the other side will never take; done when it has the others.

        Raises:
            Undelivered: some of them may not have arrived.
        """

    def close(self) -> None: ...
