"""Incidents as they are answered and told."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session, defer

from balise.api.alerts import AlertSeverity
from balise.api.incidents import Hurt, Incident, IncidentAlert, LikelyCause
from balise.api.spans import rfc3339
from balise.core.rules.limits import CRITICAL
from balise.server.alerts.answers import alert_answer
from balise.server.hosts.directory import Directory
from balise.server.incidents.members import sites_of
from balise.store.state import tables

SHOWN = 10
"""Alerts of an incident in a list and in what is told."""
Placed = tuple[tables.Alert, tables.IncidentAlert]


def incident_answer(
    session: Session,
    row: tables.Incident,
    directory: Directory,
    paused: Mapping[int, str],
    alerts: Sequence[Placed],
) -> Incident:
    """An incident with those of its alerts that are to be shown."""
    groups = {group for name in row.hosts if (known := directory.find(name)) for group in known.groups}
    return Incident(
        id=row.id,
        title=row.title,
        severity=severity_of(row),
        state="open" if row.state == "open" else "closed",
        practice=row.of == "drill",
        opened_at=rfc3339(row.opened_at),
        recovered_at=_time(row.recovered_at),
        closed_at=_time(row.closed_at),
        closed_by=row.closed_by,
        closing_note=row.closing_note,
        reopened=row.reopened,
        hurts=[Hurt.model_validate(one) for one in row.hurts],
        hosts=row.hosts,
        host_count=row.host_count,
        sites=sites_of(directory, sorted(groups)),
        alerts=[_alert(alert, placed, paused) for alert, placed in alerts],
        alert_count=row.alert_count,
        open_count=row.open_count,
        taken_by=row.taken_by,
        taken_at=_time(row.taken_at),
        snoozed_until=_time(row.snoozed_until),
        snoozed_until_worse=row.snoozed_level is not None,
        joined_into=row.joined_into,
        likely=_likely(session, row.id),
        told_nobody=told_nobody(session, row),
    )


def _likely(session: Session, incident: int) -> LikelyCause | None:
    """The first suspect of the trail as it was kept last; None when no cause stood out."""
    table = tables.IncidentTrail
    found = session.execute(
        select(table.suspect, table.sentence, table.sure).where(table.incident == incident, table.suspect != "")
    ).one_or_none()
    return LikelyCause(suspect=found[0], sentence=found[1], sure=found[2]) if found is not None else None


def severity_of(row: tables.Incident) -> AlertSeverity:
    return "critical" if row.level >= CRITICAL else "warning"


def alerts_of(session: Session, incident: int, most: int = SHOWN) -> list[Placed]:
    """Alerts of an incident: those that are open, are held under no other and are worst, first."""
    alert, placed = tables.Alert, tables.IncidentAlert
    query = (
        select(alert, placed)
        .join(placed, placed.alert == alert.id)
        .where(placed.incident == incident)
        .order_by(alert.recovered_at.is_not(None), placed.held_under.is_not(None), alert.level.desc(), alert.id)
        .limit(most)
        .options(defer(alert.evidence))
    )
    return [(one, other) for one, other in session.execute(query)]


def _alert(row: tables.Alert, placed: tables.IncidentAlert, paused: Mapping[int, str]) -> IncidentAlert:
    answer = alert_answer(row, with_clue=False)
    return IncidentAlert(
        id=row.id,
        rule=row.rule,
        about=row.about,
        severity=answer.severity,
        state=answer.state,
        host=row.host_name,
        attributes=answer.attributes,
        value=answer.value,
        limit=answer.limit,
        unit=row.unit,
        opened_at=answer.opened_at,
        recovered_at=answer.recovered_at,
        held_under=placed.held_under,
        why=placed.why_held or placed.why,
        paused=row.host in paused,
    )


def advice_of(alerts: Iterable[Placed], most: int = 3) -> list[str]:
    """What the rules of the first alerts advise, each once."""
    found = dict.fromkeys(row.advice.strip() for row, _ in alerts if row.advice.strip())
    return list(found)[:most]


def told_nobody(session: Session, row: tables.Incident) -> bool:
    """Whether it is critical, is not to be quiet, and no callout is for it."""
    is_quiet = row.snoozed_until is not None or row.snoozed_level is not None
    if row.state != "open" or row.level < CRITICAL or row.recovered_at is not None or row.of or is_quiet:
        return False
    called = (tables.CalloutRun.incident, tables.Heard.incident)
    return all(session.scalar(select(number).where(number == row.id).limit(1)) is None for number in called)


def _time(at: float | None) -> str | None:
    return rfc3339(at) if at is not None else None
