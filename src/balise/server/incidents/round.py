"""The round of incidents: what alerts did, whom callouts tell, and the messages, one after the other without delay."""

from __future__ import annotations

import time

from balise.server.incidents.book import IncidentBook
from balise.server.incidents.calling import Calling
from balise.server.incidents.telling import Messages

LONGEST_REST = 0.25
LOOK_EVERY = 1.0
"""Seconds between two rounds, and between two looks at callouts, when nothing happens: steps are due by the clock."""


class Round:
    """Goes on as soon as an alert does anything; while many do, nobody is kept waiting for the last of them."""

    def __init__(self, *, incidents: IncidentBook, calling: Calling, messages: Messages) -> None:
        self._incidents = incidents
        self._calling = calling
        self._messages = messages
        self._seen, self._looked = -1, 0.0

    def go(self) -> None:
        """Waits a moment for something to do, and makes one round."""
        self._incidents.wait(LONGEST_REST)
        if self._incidents.take_in(time.time()):
            self._incidents.wake()
        now = time.time()
        if self._incidents.changes != self._seen or abs(now - self._looked) >= LOOK_EVERY:
            self._seen, self._looked = self._incidents.changes, now
            self._incidents.settle(now)
            self._calling.look(now)
        self._messages.send_due()
