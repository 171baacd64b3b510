"""Forgetting what is too old of the records in state.db: alerts and incidents that are over, states, deliveries, the
audit log."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, cast

from sqlalchemy import ColumnElement, CursorResult, Delete, delete, func, select
from sqlalchemy.orm import Session

from balise.store.state.store import StateStore
from balise.store.state.tables import Alert, AuditEntry, Delivery, Incident, StateChange

AT_ONCE = 1000
"""Rows removed in one transaction, so that nothing else waits for long."""
DAY = 86_400.0
PRUNE_EVERY = 3600.0


class Pruner:
    """Removes what is older than it is kept, a little at a time."""

    def __init__(self, *, state: StateStore, keep_days: float, keep_audit_days: float) -> None:
        self._state = state
        self._pruned = 0.0
        self.keep_for(alerts=keep_days, audit=keep_audit_days)

    def keep_for(self, *, alerts: float, audit: float) -> None:
        """Keeps things for so many days; the next look removes what is older."""
        self.keep_days = alerts
        self.keep_audit_days = audit
        self._pruned = 0.0

    def look(self, now: float) -> None:
        """Removes what is due, once an hour. `now` is unix seconds."""
        if now - self._pruned > PRUNE_EVERY:
            self._pruned = now
            self.prune(now)

    def prune(self, now: float) -> int:
        """Answers how many rows went. Steps and deliveries of an alert go with it; of the states of a host the last
        one before the time that is kept stays, because it is how that time began."""
        old, oldest = now - self.keep_days * DAY, now - self.keep_audit_days * DAY
        last = select(func.max(StateChange.id)).where(StateChange.at < old).group_by(StateChange.host)
        rules: Sequence[tuple[Any, ColumnElement[bool]]] = (
            (Alert, Alert.recovered_at < old),
            (Incident, Incident.closed_at < old),
            (Delivery, (Delivery.created_at < old) & Delivery.alert.is_(None)),
            (StateChange, (StateChange.at < old) & StateChange.id.not_in(last)),
            (AuditEntry, AuditEntry.at < oldest),
        )
        return sum(self._remove(table, condition) for table, condition in rules)

    def _remove(self, table: Any, condition: ColumnElement[bool]) -> int:
        total = 0
        while True:
            some = select(table.id).where(condition).limit(AT_ONCE)
            gone = self._state.write(lambda s: _removed(s, delete(table).where(table.id.in_(some))))  # noqa: B023
            total += gone
            if gone < AT_ONCE:
                return total


def _removed(session: Session, statement: Delete) -> int:
    """How many rows a statement removed."""
    return cast(CursorResult[Any], session.execute(statement)).rowcount
