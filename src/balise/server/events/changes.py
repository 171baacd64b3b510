"""Changes on hosts, told as events of source `change`."""

from __future__ import annotations

import json
import time
from collections.abc import Sequence
from dataclasses import dataclass, field

from balise.core.events.new_event import NewEvent
from balise.core.moments import nanos
from balise.store.events.store import Delivery, EventStore

NOTICE = 5
"""RFC 5424."""


@dataclass(frozen=True)
class ChangeOnHost:
    """Something on a host is other than it was. `at` is unix seconds, None for now."""

    host: str
    words: str
    attributes: dict[str, str] = field(default_factory=dict)
    at: float | None = None


class ChangeLog:
    """Where changes are kept: among the events."""

    def __init__(self, events: EventStore) -> None:
        self._events = events

    def keep(self, changes: Sequence[ChangeOnHost]) -> None:
        """Keeps them; returns when they are durable."""
        kept = [
            NewEvent(nanos(c.at or time.time()), c.host, NOTICE, "change", c.words, json.dumps(c.attributes))
            for c in changes
        ]
        if kept:
            self._events.accept_now(Delivery(kept))
