"""What was going on when an incident began and at its worst: evidence for the alerts that stand for all of it."""

from __future__ import annotations

import threading

from sqlalchemy import func, select, update
from sqlalchemy.orm import Session

from balise.server.events.evidence import EvidenceReader
from balise.server.incidents.answers import alerts_of
from balise.store.state.store import StateStore
from balise.store.state.tables import Alert, Incident, IncidentAlert

AT_ONCE = 20
"""Incidents that are looked at in one turn."""
STILL_KNOWN = 3600.0
"""Seconds after an alert opened within which what was going on then is read from what hosts told."""


class FirstAndWorst:
    """In a storm only few alerts get their evidence as they open: the first and the worst of each incident have it
    soon after. `changed` is told of incidents, `look` does the work."""

    def __init__(self, *, state: StateStore, evidence: EvidenceReader) -> None:
        self._state = state
        self._evidence = evidence
        self._lock = threading.Lock()
        still_open = select(Incident.id).where(Incident.state == "open", Incident.of == "")
        self._due: set[int] = set(state.read(lambda s: list(s.scalars(still_open))))

    def changed(self, incident: int) -> None:
        with self._lock:
            self._due.add(incident)

    def look(self, now: float) -> None:
        """Captures what is missing for a few of the incidents that changed."""
        with self._lock:
            chosen = sorted(self._due)[:AT_ONCE]
            self._due.difference_update(chosen)
        try:
            for incident in chosen:
                self._capture(incident, now)
        except Exception:
            with self._lock:
                self._due.update(chosen)
            raise

    def _capture(self, incident: int, now: float) -> None:
        for alert in self._state.read(lambda s: _without(s, incident, now)):
            found = self._evidence.captured(alert.host_name, alert.opened_at, alert.opened_at)
            mine = update(Alert).where(Alert.id == alert.id).values(evidence=found)
            self._state.write(lambda s, mine=mine: s.execute(mine))  # type: ignore[misc]


def _without(session: Session, incident: int, now: float) -> list[Alert]:
    """Those of an incident's first and its worst alert that have no evidence, though they could have."""
    first = select(func.min(IncidentAlert.alert)).where(IncidentAlert.incident == incident)
    worst = [alert.id for alert, _ in alerts_of(session, incident, 1)]
    query = select(Alert).where(
        Alert.id.in_([session.scalar(first), *worst]),
        Alert.host_name != "",
        Alert.opened_at > now - STILL_KNOWN,
        func.json_type(Alert.evidence) == "null",
    )
    return list(session.scalars(query))
