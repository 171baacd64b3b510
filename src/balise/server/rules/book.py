"""Rules as they are kept: reading, checking, changing, and those every console begins with."""

from __future__ import annotations

import time
from importlib import resources

import yaml
from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.rules import Rehearsal, Rehearse, RuleBody, RuleDocument
from balise.api.rules import Rule as RuleAnswer
from balise.api.spans import rfc3339, seconds
from balise.server.alerts.book import AlertBook
from balise.server.asking import read_filter, span_of
from balise.server.errors import Refused, bad_field, unknown
from balise.server.metrics.questions import unit_of
from balise.server.people.access import audit
from balise.server.plans.held import HeldPlans
from balise.server.rules.rehearsals import Rehearsals
from balise.server.rules.units import Units
from balise.server.rules.watch import Watch
from balise.store.state.store import StateStore
from balise.store.state.tables import AuditEntry, Rule

MOST_RULES = 2000


def shipped_rules() -> list[RuleDocument]:
    """The rules in the package."""
    text = resources.files("balise.server").joinpath("rules/shipped.yaml").read_text("utf-8")
    return [RuleDocument.model_validate(document) for document in yaml.safe_load(text)]


def body_of(document: RuleDocument) -> RuleBody:
    return RuleBody.model_validate(document.model_dump(exclude={"rule"}))


class RuleBook:
    """All rules."""

    def __init__(
        self,
        *,
        state: StateStore,
        watch: Watch,
        alerts: AlertBook,
        plans: HeldPlans,
        rehearsals: Rehearsals,
        units: Units,
    ) -> None:
        self._state = state
        self._watch = watch
        self._alerts = alerts
        self._plans = plans
        self._rehearsals = rehearsals
        self._units = units

    def ship(self, documents: list[RuleDocument] | None = None, by: str = "balise") -> list[str]:
        """Puts in rules that are new, and renews those that nobody changed; answers the names of those it wrote.

        Args:
            documents: those of a kit; without any, the rules that every console begins with.
        """
        written: list[str] = []

        def write(session: Session) -> None:
            there = {r.name: r for r in session.scalars(select(Rule))}
            for document in shipped_rules() if documents is None else documents:
                name, body = document.rule or "", body_of(document).model_dump(exclude_none=True)
                row = there.get(name)
                if row is None and not _was_removed(session, name):
                    session.add(Rule(name=name, body=body, shipped=True, updated_at=time.time(), updated_by=by))
                    written.append(name)
                elif row is not None and row.shipped and row.body != body:
                    row.body, row.updated_at = body, time.time()
                    written.append(name)

        self._state.write(write)
        return written

    def ship_with_kit(self, kit: str, documents: list[RuleDocument]) -> None:
        """Puts a kit's rules to work at once, as `ship` does."""
        by_name = {document.rule: document for document in documents}
        for name in self.ship(documents, f"the kit {kit}"):
            self._watch.change(name, body_of(by_name[name]), time.time(), "the kit changed")

    def all(self) -> list[RuleAnswer]:
        rows = self._state.read(lambda s: list(s.scalars(select(Rule).order_by(Rule.name))))
        return [self._answer(row) for row in rows]

    def get(self, name: str) -> RuleAnswer:
        row = self._state.read(lambda s: s.get(Rule, name))
        if row is None:
            raise unknown("rule", name)
        return self._answer(row)

    def _answer(self, row: Rule) -> RuleAnswer:
        body = RuleBody.model_validate(row.body)
        return RuleAnswer(
            **body.model_dump(),
            name=row.name,
            unit=unit_of(self._units.of(body.measure.metric), body.measure.take),
            updated_at=rfc3339(row.updated_at),
            updated_by=row.updated_by,
            shipped=row.shipped,
            open_alerts=sum(1 for rule, _ in list(self._alerts.open) if rule == row.name),
        )

    def check(self, body: RuleBody) -> None:
        """Refused 422 when a filter of the rule cannot be read, or its times make no sense."""
        read_filter(body.hosts, "hosts")
        read_filter(body.measure.where, "measure.where")
        if not 1.0 <= seconds(body.measure.over) <= 86_400:
            raise bad_field("measure.over", "between 1s and 1d: a rule looks back that far at every second")
        if len(set(body.measure.each)) != len(body.measure.each):
            raise bad_field("measure.each", "an attribute is named twice")
        for name, limit in (("warning", body.limits.warning), ("critical", body.limits.critical)):
            if limit and seconds(limit.hold) > 86_400:
                raise bad_field(f"limits.{name}.hold", "at most 1d")

    def put(self, name: str, body: RuleBody, who: str) -> RuleAnswer:
        """Keeps a rule, new or changed, and sets it to work at once."""
        self.check(body)
        now = time.time()

        def write(session: Session) -> None:
            row = session.get(Rule, name)
            content = body.model_dump(exclude_none=True)
            if row is None:
                if len(session.scalars(select(Rule.name)).all()) >= MOST_RULES:
                    raise Refused(422, f"There are {MOST_RULES} rules already: remove some first.")
                session.add(Rule(name=name, body=content, shipped=False, updated_at=now, updated_by=who))
            else:
                row.body, row.shipped, row.updated_at, row.updated_by = content, False, now, who
            audit(session, who, "rule.put", name)

        self._state.write(write)
        self._watch.change(name, body, now, "rule changed")
        return self.get(name)

    def delete(self, name: str, who: str) -> None:
        def write(session: Session) -> None:
            row = session.get(Rule, name)
            if row is None:
                raise unknown("rule", name)
            session.delete(row)
            audit(session, who, "rule.delete", name, body=row.body)

        self._state.write(write)
        self._watch.change(name, None, time.time(), "rule deleted")

    def rehearse(self, request: Rehearse) -> Rehearsal:
        """When the rule would have opened over the span, with the limits that plans give hosts now."""
        body = body_of(request.rule)
        self.check(body)
        start, end = span_of(request.from_, request.to, time.time())
        name = request.rule.rule or ""
        return self._rehearsals.run(body, start, end, lambda _rule, host: self._plans.limits_of(name, host))


def _was_removed(session: Session, name: str) -> bool:
    """Whether somebody removed a shipped rule: then it does not come back."""
    query = select(AuditEntry.id).where(AuditEntry.what == "rule.delete", AuditEntry.target == name).limit(1)
    return session.scalar(query) is not None
