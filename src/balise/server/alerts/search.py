"""Questions about alerts: which there are, and all that is known of one."""

from __future__ import annotations

from sqlalchemy import and_, or_, select
from sqlalchemy.orm import Session

from balise.api.alerts import Alert, AlertDetail
from balise.api.lists import Page
from balise.api.spans import rfc3339
from balise.core import filters
from balise.core.rules.limits import LEVEL_NAMES
from balise.server.alerts.answers import alert_facts
from balise.server.alerts.book import AlertBook
from balise.server.asking import read_filter
from balise.server.errors import unknown
from balise.store.state import tables
from balise.store.state.store import StateStore

MOST_READ = 20_000
"""Alerts that are looked at for one page."""


class AlertSearch:
    """Answers questions; values are those of this moment."""

    def __init__(self, *, state: StateStore, alerts: AlertBook) -> None:
        self._state = state
        self._alerts = alerts

    def page(
        self, start: float, end: float, *, where: str | None, state: str | None, limit: int, cursor: str | None
    ) -> Page[Alert]:
        """Open ones and those that were open at some time in [start, end), unix seconds, the newest first."""
        node = read_filter(where, "where")
        table = tables.Alert
        when = and_(table.opened_at < end, or_(table.recovered_at.is_(None), table.recovered_at >= start))
        query = select(table).where(when).order_by(table.id.desc())
        if state:
            query = query.where(table.recovered_at.is_(None) if state == "open" else table.recovered_at.is_not(None))
        if cursor:
            query = query.where(table.id < int(cursor))

        def read(session: Session) -> Page[Alert]:
            items: list[Alert] = []
            for row in session.scalars(query.limit(MOST_READ)):
                if node is None or filters.matches(node, alert_facts(row).get):
                    if len(items) == limit:
                        return Page[Alert](items=items, next=str(items[-1].id))
                    items.append(self._alerts.current(row))
            return Page[Alert](items=items)

        return self._state.read(read)

    def get(self, number: int) -> AlertDetail:
        """An alert with its steps, its evidence and who was told. Raises Refused 404."""
        return self._state.read(lambda s: self._detail(s, number))

    def _detail(self, session: Session, number: int) -> AlertDetail:
        row = session.get(tables.Alert, number)
        if row is None:
            raise unknown("alert", number)
        steps = session.scalars(
            select(tables.AlertStep).where(tables.AlertStep.alert == number).order_by(tables.AlertStep.id)
        ).all()
        incident = session.scalar(select(tables.IncidentAlert.incident).where(tables.IncidentAlert.alert == number))
        mine = tables.Delivery.alert == number
        if incident is not None:
            mine = or_(mine, tables.Delivery.incident == incident)
        told = session.scalars(select(tables.Delivery).where(mine).order_by(tables.Delivery.id)).all()
        return AlertDetail(
            **self._alerts.current(row).model_dump(),
            advice=row.advice,
            limits=row.limits,
            measure=row.measure,
            evidence=row.evidence or {},
            story=[
                {
                    "at": rfc3339(s.at),
                    "what": s.what,
                    "severity": LEVEL_NAMES[s.level],
                    "value": s.value,
                    "who": s.who,
                    "note": s.note,
                }
                for s in steps
            ],
            incident=incident,
            told=[
                {
                    "channel": d.channel,
                    "person": d.person,
                    "kind": d.kind,
                    "state": d.state,
                    "attempts": d.attempts,
                    "at": rfc3339(d.sent_at or d.created_at),
                    "problem": d.problem,
                }
                for d in told
            ],
        )
