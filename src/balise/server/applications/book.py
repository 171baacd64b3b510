"""Applications as they are kept, drawn by hand or in plans, and what observed connections propose for them."""

from __future__ import annotations

import time

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.alerts import Alert
from balise.api.applications import (
    Application,
    ApplicationBody,
    ApplicationPart,
    Dependent,
    Figure,
    Need,
    Station,
    StationAlert,
)
from balise.api.hosts import State
from balise.api.metrics import MetricQuery
from balise.api.services import Service
from balise.api.spans import rfc3339
from balise.core.applications import ranks, rolled
from balise.core.health import worst
from balise.server.alerts.book import AlertBook
from balise.server.errors import Refused, unknown
from balise.server.hosts.directory import Directory, Drawn
from balise.server.metrics.questions import Metrics
from balise.server.people.access import audit
from balise.server.plans.held import HeldPlans
from balise.server.probes.results import ProbeResults
from balise.server.services.book import ServiceBook
from balise.server.services.kits import KitBook
from balise.server.signals import Signal
from balise.store.state import tables
from balise.store.state.store import StateStore

MOST_APPLICATIONS = 300
MOST_ALERTS = 5
SHOWN = set(StationAlert.model_fields)


class ApplicationBook:
    """All applications."""

    def __init__(
        self,
        *,
        state: StateStore,
        directory: Directory,
        services: ServiceBook,
        probes: ProbeResults,
        kits: KitBook,
        metrics: Metrics,
        plans: HeldPlans,
        alerts: AlertBook,
    ) -> None:
        self._state = state
        self._directory = directory
        self._services = services
        self._probes = probes
        self._kits = kits
        self._metrics = metrics
        self._plans = plans
        self._alerts = alerts
        self.changed = Signal[None]("applications")

    # --- asking

    def all(self) -> list[Application]:
        rows = self._state.read(lambda s: list(s.scalars(select(tables.Application))))
        by_host = self._services_by_host()
        found = [self._answer(row, by_host, figures=False) for row in rows]
        return sorted(found, key=lambda a: (a.position, a.name))

    def get(self, name: str) -> Application:
        row = self._state.read(lambda s: s.get(tables.Application, name))
        if row is None:
            raise unknown("application", name)
        return self._answer(row, self._services_by_host(), figures=True)

    def body(self, name: str) -> ApplicationBody:
        """What was drawn by hand, without what plans add."""
        row = self._state.read(lambda s: s.get(tables.Application, name))
        if row is None:
            raise unknown("application", name)
        return ApplicationBody.model_validate(row.body)

    def drawings(self) -> list[tuple[str, ApplicationBody]]:
        """Every application as it is drawn, with what plans add to it."""
        rows = self._state.read(lambda s: list(s.scalars(select(tables.Application))))
        return [(row.name, self._whole(row)[0]) for row in sorted(rows, key=lambda r: (r.position, r.name))]

    def _services_by_host(self) -> dict[tuple[str, str], Service]:
        return {(service.host, service.name): service for service in self._services.all()}

    def _whole(self, row: tables.Application) -> tuple[ApplicationBody, dict[str, str]]:
        """An application with what plans add to it, and the plan of each part that came from one."""
        body = ApplicationBody.model_validate(row.body)
        parts, needs, came = list(body.parts), list(body.needs), dict[str, str]()
        for plan, application, host, wanted in self._plans.applications():
            if application != row.name:
                continue
            part = next((p.name for p in parts if p.host == host and p.service is None), None)
            if part is None:
                part = host
                parts.append(ApplicationPart(name=host, host=host))
                came[host] = plan
            names = {p.name for p in parts}
            to = [name for name in wanted if name in names and name != part]
            held = {(n.from_, name) for n in needs for name in n.to}
            needs += [Need(from_=part, to=[name]) for name in to if (part, name) not in held]
        return body.model_copy(update={"parts": parts, "needs": needs}), came

    def _answer(
        self, row: tables.Application, by_host: dict[tuple[str, str], Service], *, figures: bool
    ) -> Application:
        body, came = self._whole(row)
        own = {part.name: self._own(part, by_host) for part in body.parts}
        states = rolled(own, body.needs)
        places = ranks([part.name for part in body.parts], body.needs)
        alerts = self._alerts.open_now() if figures else []
        needed = {part.name: [n.from_ for n in body.needs if part.name in n.to] for part in body.parts}
        stations = [
            Station(
                **part.model_dump(),
                own=own[part.name],
                state=states[part.name][0],
                because=states[part.name][1],
                rank=places[part.name],
                needed_by=needed[part.name],
                service_id=held.id if (held := by_host.get((part.host or "", part.service or ""))) else None,
                figure=self._figure(part, held) if figures else None,
                alerts=self._on(part, alerts),
                from_plan=came.get(part.name),
            )
            for part in body.parts
        ]
        fronts = [s.state for s in stations if not s.needed_by]
        bad = [s for s in stations if s.own in ("critical", "warning", "silent")]
        order = {"critical": 0, "warning": 1, "silent": 2}
        return Application(
            name=row.name,
            about=body.about,
            position=body.position,
            state=worst(fronts) if fronts else "silent",
            because=[s.name for s in sorted(bad, key=lambda s: (order[s.own], -s.rank))],
            parts=stations,
            needs=body.needs,
            updated_at=rfc3339(row.updated_at),
            updated_by=row.updated_by,
        )

    def _own(self, part: ApplicationPart, by_host: dict[tuple[str, str], Service]) -> State:
        if part.service is not None:
            held = by_host.get((part.host or "", part.service))
            return held.state if held is not None else "silent"
        if part.host is not None:
            known = self._directory.find(part.host)
            return known.state if known is not None else "silent"
        if part.probe is not None:
            return self._probes.state_of(part.probe)
        members = [k.state for k in self._directory.all() if part.group in k.groups]
        return worst(members) if members else "silent"

    def _on(self, part: ApplicationPart, alerts: list[Alert]) -> list[StationAlert]:
        """The open alerts on a part, as many as are worth showing beside it."""
        found = [alert for alert in alerts if self._is_on(part, alert)][:MOST_ALERTS]
        return [StationAlert.model_validate(alert.model_dump(include=SHOWN)) for alert in found]

    def _is_on(self, part: ApplicationPart, alert: Alert) -> bool:
        if part.probe is not None:
            return alert.attributes.get("probe") == part.probe
        if part.group is not None:
            known = self._directory.find(alert.host)
            return known is not None and part.group in known.groups
        service = alert.attributes.get("service.name")
        return alert.host == part.host and (part.service is None or service == part.service)

    def _figure(self, part: ApplicationPart, service: Service | None) -> Figure | None:
        """The figure that tells most of a part: what its kit charts first, else how busy the host is."""
        asked: tuple[str, str, str, str] | None = None
        if part.service is not None and service is not None:
            kit = self._kits.find(service.kit)
            if kit is not None and kit.charts:
                chart = kit.charts[0]
                where = f'host eq "{part.host}" and service.name eq "{part.service}"'
                asked = (chart.title, chart.metric, where, chart.take)
        elif part.probe is not None:
            asked = ("took", "probe.duration", f'probe eq "{part.probe}"', "max")
        elif part.host is not None:
            asked = ("CPU busy", "balise.cpu.busy", f'host eq "{part.host}"', "avg")
        if asked is None:
            return None
        name, metric, where, take = asked
        try:
            query = MetricQuery(metric=metric, where=where, from_="-5m", step="5m", take=take, by=[])  # type: ignore[arg-type]
            answer = self._metrics.ask(query)
        except Refused:
            return None
        values = [v for s in answer.series for v in s.values if v is not None]
        return Figure(name=name, value=values[-1] if values else None, unit=answer.unit)

    def dependents(self, *, host: str, service: str | None = None) -> list[Dependent]:
        """The parts that stand for a host or service in applications, and what depends on each."""
        found = []
        for application in self.all():
            below: dict[str, list[str]] = {}
            for need in application.needs:
                for to in need.to:
                    below.setdefault(to, []).append(need.from_)
            for part in application.parts:
                if part.host == host and (service is None or part.service == service):
                    found.append(
                        Dependent(
                            application=application.name,
                            part=part.name,
                            needed_by=_above(part.name, below),
                            state=application.state,
                        )
                    )
        return found

    def members(self) -> dict[str, list[tuple[str, str | None]]]:
        """By host the applications that it is a part of, each with the service that is, or None for the host."""
        found: dict[str, list[tuple[str, str | None]]] = {}
        for name, body in self.drawings():
            for part in body.parts:
                if part.host is not None:
                    found.setdefault(part.host, []).append((name, part.service))
        return found

    def place(self) -> None:
        """Tells the directory which hosts are parts of which applications."""
        self._directory.draw(
            Drawn(
                name,
                frozenset(part.host for part in body.parts if part.host is not None),
                frozenset(part.group for part in body.parts if part.group is not None),
            )
            for name, body in self.drawings()
        )

    # --- changing

    def put(self, name: str, body: ApplicationBody, who: str) -> Application:
        def write(session: Session) -> None:
            row = session.get(tables.Application, name)
            if row is None:
                if len(session.scalars(select(tables.Application.name)).all()) >= MOST_APPLICATIONS:
                    raise Refused(409, f"There are {MOST_APPLICATIONS} applications already: delete some first.")
                row = tables.Application(name=name)
                session.add(row)
            row.body, row.position = body.model_dump(mode="json", by_alias=True), body.position
            row.updated_at, row.updated_by = time.time(), who
            audit(session, who, "application.put", name, parts=len(body.parts))

        self._state.write(write)
        self.changed.tell(None)
        return self.get(name)

    def delete(self, name: str, who: str) -> None:
        def write(session: Session) -> None:
            row = session.get(tables.Application, name)
            if row is None:
                raise unknown("application", name)
            session.delete(row)
            audit(session, who, "application.delete", name)

        self._state.write(write)
        self.changed.tell(None)

    def drawn(self) -> set[tuple[str, str]]:
        """Edges that applications have, by their hosts."""
        found = set()
        for row in self._state.read(lambda s: list(s.scalars(select(tables.Application)))):
            body, _ = self._whole(row)
            hosts = {part.name: part.host for part in body.parts}
            found |= {(hosts[n.from_], hosts[to]) for n in body.needs for to in n.to if hosts[n.from_] and hosts[to]}
        return found  # type: ignore[return-value]


def _above(part: str, below: dict[str, list[str]]) -> list[str]:
    """All that needs a part, the nearest first."""
    found: list[str] = []
    waiting = list(below.get(part, []))
    while waiting:
        one = waiting.pop(0)
        if one not in found and one != part:
            found.append(one)
            waiting += below.get(one, [])
    return found
