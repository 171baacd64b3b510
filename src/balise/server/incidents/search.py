"""Questions about incidents: which there are, and all that is known of one."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any
from urllib.parse import urlencode

from sqlalchemy import ColumnElement, case, func, select
from sqlalchemy.orm import Session

from balise.api.events import SEVERITIES
from balise.api.incidents import Earlier, Incident, IncidentDetail, StoryLine
from balise.api.lists import Page
from balise.api.spans import instant, rfc3339
from balise.core import filters
from balise.core.rules.limits import LEVEL_NAMES
from balise.server.asking import read_filter
from balise.server.errors import unknown
from balise.server.events.evidence import filters_text
from balise.server.hosts.directory import Directory
from balise.server.incidents.alike import alike
from balise.server.incidents.answers import advice_of, alerts_of, incident_answer
from balise.server.incidents.facts import facts_about
from balise.store.database import in_pieces
from balise.store.state import tables
from balise.store.state.store import StateStore

MOST_READ = 5000
"""Incidents that are looked at for one page."""
MOST_ALERTS, MOST_STEPS, MOST_LINES, MOST_BEFORE = 200, 400, 2000, 5
WITH_EVIDENCE = 5
"""Alerts of an incident whose evidence is read for its story."""
_STEPS = {
    "opened": "alert {id}: {about}{on}",
    "worsened": "alert {id} is {level} now: {about}{on}",
    "eased": "alert {id} is {level} now: {about}{on}",
    "flapping": "alert {id} goes to and fro: {about}{on}",
    "recovered": "alert {id} is over: {about}{on}",
}
_TOLD = {"opened": "that it is wrong", "changed": "again", "recovered": "that it is over"}


class IncidentSearch:
    """Answers questions."""

    def __init__(self, *, state: StateStore, directory: Directory, paused: Callable[[], Mapping[int, str]]) -> None:
        self._state = state
        self._directory = directory
        self._paused = paused

    def page(self, *, where: str | None, state: str | None, limit: int, cursor: str | None) -> Page[Incident]:
        """Incidents, the newest first, or of those that are open the worst; one that is a part of another is found with
        that."""
        node = read_filter(where, "where")
        table = tables.Incident
        place = _urgency() if state == "open" else table.id
        query = select(table, place).where(table.joined_into.is_(None)).order_by(place.desc())
        if state:
            query = query.where(table.state == state)
        if cursor:
            query = query.where(place < int(cursor))

        def read(session: Session) -> Page[Incident]:
            items: list[Incident] = []
            paused = self._paused()
            last = 0
            for row, at in session.execute(query.limit(MOST_READ)):
                if node is None or filters.matches(node, self._facts(session, row).get):
                    if len(items) == limit:
                        return Page[Incident](items=items, next=str(last))
                    last = at
                    alerts = alerts_of(session, row.id)
                    items.append(incident_answer(session, row, self._directory, paused, alerts))
            return Page[Incident](items=items)

        return self._state.read(read)

    def open_by_host(self, where: str | None) -> dict[int, int]:
        """How many open incidents that pass a filter each host has an open alert in."""
        node = read_filter(where, "where")
        incident, placed, alert = tables.Incident, tables.IncidentAlert, tables.Alert

        def read(session: Session) -> dict[int, int]:
            query = select(incident).where(incident.state == "open", incident.joined_into.is_(None)).limit(MOST_READ)
            rows = [
                row.id
                for row in session.scalars(query)
                if node is None or filters.matches(node, self._facts(session, row).get)
            ]
            found: dict[int, int] = {}
            for piece in in_pieces(rows):
                counted = (
                    select(alert.host, func.count(placed.incident.distinct()))
                    .join(placed, placed.alert == alert.id)
                    .where(placed.incident.in_(piece), alert.recovered_at.is_(None), alert.host.is_not(None))
                    .group_by(alert.host)
                )
                for host, count in session.execute(counted):
                    found[host or 0] = found.get(host or 0, 0) + count
            return found

        return self._state.read(read)

    def _facts(self, session: Session, row: tables.Incident) -> dict[str, Any]:
        placed = select(tables.IncidentAlert.alert).where(tables.IncidentAlert.incident == row.id)
        rules = select(tables.Alert.rule).where(tables.Alert.id.in_(placed)).distinct()
        return {
            **facts_about(
                severity=LEVEL_NAMES[row.level],
                hosts=row.hosts,
                applications=[hurt["application"] for hurt in row.hurts],
                rules=session.scalars(rules),
                directory=self._directory,
            ),
            "state": row.state,
            "number": row.id,
            "title": row.title,
            "alerts": row.alert_count,
            "taken": row.taken_by is not None,
            "taken_by": row.taken_by,
            "practice": row.of == "drill",
        }

    def get(self, number: int) -> IncidentDetail:
        """An incident with its story. Raises Refused 404."""
        return self._state.read(lambda s: self._detail(s, number))

    def _detail(self, session: Session, number: int) -> IncidentDetail:
        row = session.get(tables.Incident, number)
        if row is None:
            raise unknown("incident", number)
        alerts = alerts_of(session, number, MOST_ALERTS)
        answer = incident_answer(session, row, self._directory, self._paused(), alerts)
        lines = [*_written(session, number), *_alert_lines(session, alerts), *_told_lines(session, number)]
        lines += _evidence_lines(session, [alert.id for alert, _ in alerts[:WITH_EVIDENCE]])
        lines.sort(key=lambda one: one[0])
        return IncidentDetail(
            **answer.model_dump(),
            advice=advice_of(alerts),
            timeline=[line for _, line in lines[-MOST_LINES:]],
            before=_before(session, row),
        )


def _urgency() -> ColumnElement[int]:
    """A number for each open incident, the higher the sooner: what goes on before what has recovered, the worst first,
    then the newest."""
    table = tables.Incident
    return (case((table.recovered_at.is_(None), 4), else_=0) + table.level) * 10**15 + table.id


Dated = tuple[float, StoryLine]


def _written(session: Session, number: int) -> Iterator[Dated]:
    table = tables.IncidentLine
    query = select(table).where(table.incident == number).order_by(table.id.desc()).limit(MOST_LINES)
    for row in session.scalars(query):
        yield row.at, StoryLine(at=rfc3339(row.at), kind=row.kind, text=row.text, who=row.who)  # type: ignore[arg-type]


def _alert_lines(session: Session, alerts: list[tuple[tables.Alert, tables.IncidentAlert]]) -> Iterator[Dated]:
    """What the alerts did, and for each why it is here, or held under another."""
    known = {alert.id: (alert, placed) for alert, placed in alerts}
    table = tables.AlertStep
    query = select(table).where(table.alert.in_(known), table.what.in_(_STEPS)).order_by(table.id).limit(MOST_STEPS)
    for step in session.scalars(query):
        alert, placed = known[step.alert]
        on = f" on {alert.host_name}" if alert.host_name else ""
        text = _STEPS[step.what].format(id=alert.id, about=alert.about, on=on, level=LEVEL_NAMES[step.level])
        if step.what == "opened" and placed.held_under is not None:
            text += f"; held under alert {placed.held_under}, because {placed.why_held}"
        elif step.what == "opened" and placed.why:
            text += f"; {placed.why}"
        yield step.at, StoryLine(at=rfc3339(step.at), kind="alert", text=text, link=f"/alerts/{alert.id}")


def _told_lines(session: Session, number: int) -> Iterator[Dated]:
    """Who was told by which way, why, and whether it got through."""
    table = tables.Delivery
    query = select(table).where(table.incident == number).order_by(table.id.desc()).limit(MOST_LINES)
    for row in session.scalars(query):
        whom = f"{row.person} by {row.channel}" if row.person else row.channel
        through = {
            "sent": f"got through after {max(0.0, (row.sent_at or row.created_at) - row.created_at):.1f} s",
            "waiting": f"has not got through yet: {row.problem}" if row.problem else "is on the way",
            "given-up": f"did not get through: {row.problem}",
        }[row.state]
        why = str(row.content.get("why", ""))
        text = f"{whom} was told {_TOLD.get(row.kind, row.kind)}{f' ({why})' if why else ''}; {through}"
        link = f"/settings/deliveries?incident={number}"
        yield row.created_at, StoryLine(at=rfc3339(row.created_at), kind="told", text=text, link=link)


def _evidence_lines(session: Session, alerts: list[int]) -> Iterator[Dated]:
    """What changed before, and the worst that was said, as it was captured with the first alerts."""
    seen: set[str] = set()
    for row in session.scalars(select(tables.Alert).where(tables.Alert.id.in_(alerts))):
        evidence = row.evidence or {}
        for change in evidence.get("changes", []):
            key = f"{change['time']} {change['body']}"
            if key not in seen:
                seen.add(key)
                at = instant(change["time"], row.opened_at)
                link = f"/fleet/{row.host_name}/inventory"
                yield at, StoryLine(at=rfc3339(at), kind="change", text=f"{row.host_name}: {change['body']}", link=link)
        for said in evidence.get("lines", []):
            bad = said["severity"] in SEVERITIES[:5] and said["count"] > said["usual"]
            key = f"{row.host_name} {said['pattern']}"
            if bad and key not in seen:
                seen.add(key)
                text = f"{row.host_name} said {said['count']:,} × {said['severity']}: {said['pattern']}"
                yield row.opened_at, StoryLine(at=rfc3339(row.opened_at), kind="event", text=text, link=_events(row))


def _events(row: tables.Alert) -> str:
    asked = {"where": f"host eq {filters_text(row.host_name or '')}"}
    return f"/events?{urlencode(asked)}&from={row.opened_at - 900:.0f}&to={row.opened_at + 300:.0f}"


def _before(session: Session, row: tables.Incident) -> list[Earlier]:
    """What was written when the same rules opened on the same things before, the newest first."""
    incident = tables.Incident
    query = (
        select(incident)
        .where(incident.id.in_(alike(row.id)), incident.state == "closed", incident.joined_into.is_(None))
        .order_by(incident.id.desc())
        .limit(MOST_BEFORE)
    )
    return [
        Earlier(
            id=one.id,
            closed_at=rfc3339(one.closed_at or one.opened_at),
            note=one.closing_note or _last_note(session, one.id),
        )
        for one in session.scalars(query)
    ]


def _last_note(session: Session, incident: int) -> str:
    table = tables.IncidentLine
    query = (
        select(table.text).where(table.incident == incident, table.kind == "note").order_by(table.id.desc()).limit(1)
    )
    return session.scalar(query) or ""
