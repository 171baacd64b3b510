"""A channel by which nothing gets through is itself an incident, told on the others."""

from __future__ import annotations

import time

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.server.callouts.courier import Liveness
from balise.server.callouts.ways import channels_of
from balise.server.incidents.book import IncidentBook, add_line
from balise.server.incidents.words import add_word, add_words_to_listeners
from balise.store.state.tables import Incident


class DeadChannels:
    """Opens and closes the incidents of channels."""

    def __init__(self, *, incidents: IncidentBook) -> None:
        self._incidents = incidents

    def heard(self, liveness: Liveness) -> None:
        """A channel died, or came back."""
        now = time.time()
        number = self._incidents.change(
            lambda s: (
                self._died(s, liveness, now)
                if liveness.problem is not None
                else self._ends(s, liveness.channel, "it lets things through again", now)
            )
        )
        self._tell(number)

    def removed(self, channel: str) -> None:
        """A channel is there no more."""
        now = time.time()
        self._tell(self._incidents.change(lambda s: self._ends(s, channel, "the channel has been taken away", now)))

    def _tell(self, number: int | None) -> None:
        if number is not None:
            self._incidents.changed.tell(number)

    @staticmethod
    def _died(session: Session, liveness: Liveness, now: float) -> int | None:
        of = f"channel {liveness.channel}"
        if session.scalar(select(Incident.id).where(Incident.of == of, Incident.state == "open")) is not None:
            return None
        title = f"The channel {liveness.channel} lets nothing through: {liveness.problem}"[:200]
        row = Incident(of=of, title=title, level=2, opened_at=now, told={}, hurts=[], hosts=[], apart=[])
        session.add(row)
        session.flush()
        add_line(session, row.id, now, "alert", title, None)
        for channel in sorted(channels_of(session) - {liveness.channel}):
            why = "whoever is called by it hears of nothing"
            add_word(session, row.id, (channel, None), "", "opened", why, 0.0, now)
        return row.id

    def _ends(self, session: Session, channel: str, why: str, now: float) -> int | None:
        of = f"channel {channel}"
        row = session.scalar(select(Incident).where(Incident.of == of, Incident.state == "open"))
        if row is None:
            return None
        row.recovered_at = now
        add_line(session, row.id, now, "closed", why, None)
        add_words_to_listeners(session, row.id, "recovered", why, now)
        self._incidents.end(session, row, now, None, None)
        return row.id
