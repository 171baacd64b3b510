"""Incidents that are alike: the same rules on the same things."""

from __future__ import annotations

from sqlalchemy import Select, select

from balise.store.state.tables import Alert, IncidentAlert

MOST_ALERTS = 200
"""Alerts of an incident whose likes are looked for."""


def alike(incident: int) -> Select[int]:
    """The numbers of other incidents that have an alert of the same rule on the same thing as one of this one."""
    mine = (
        select(Alert.rule, Alert.group_key)
        .join(IncidentAlert, IncidentAlert.alert == Alert.id)
        .where(IncidentAlert.incident == incident)
        .order_by(Alert.id)
        .limit(MOST_ALERTS)
    ).subquery()
    return (
        select(IncidentAlert.incident)
        .join(Alert, Alert.id == IncidentAlert.alert)
        .join(mine, (Alert.rule == mine.c.rule) & (Alert.group_key == mine.c.group_key))
        .where(IncidentAlert.incident != incident)
    )
