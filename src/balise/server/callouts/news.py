"""News of the console itself, told to everybody who is ever called."""

from __future__ import annotations

import time
from typing import Any

from sqlalchemy.orm import Session

from balise.server.callouts.courier import Courier
from balise.server.callouts.ways import channels_of
from balise.server.keeping.space import RoomNews, RoomState
from balise.store.state.store import StateStore
from balise.store.state.tables import Delivery

SEVERITY_OF: dict[RoomState, str] = {"enough": "recovered", "low": "warning", "full": "critical"}


class OwnNews:
    """Puts what concerns the console into the deliveries of every channel by which anybody is called."""

    def __init__(self, *, state: StateStore, courier: Courier) -> None:
        self._state = state
        self._courier = courier

    def of_room(self, news: RoomNews) -> None:
        """A new state of the console's disk."""
        about = {"about": "the console's own disk", "detail": news.words, "severity": SEVERITY_OF[news.state]}
        self._tell_all(about, time.time())

    def _tell_all(self, content: dict[str, Any], now: float) -> None:
        def write(session: Session) -> None:
            channels = channels_of(session)
            for name in sorted(channels):
                row = Delivery(channel=name, kind="console", content=content, state="waiting")
                row.created_at = row.next_at = now
                session.add(row)

        self._state.write(write)
        self._courier.wake()
