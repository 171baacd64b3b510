"""Rules as they are kept: reading, checking, changing, and those every console begins with."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from importlib import resources

import yaml
from sqlalchemy import and_, case, func, or_, select
from sqlalchemy.orm import Session

from balise.api.rules import (
    Rehearsal,
    Rehearse,
    RuleBody,
    RuleDocument,
    RuleProblem,
    RuleVersion,
    Suggest,
    Suggestion,
)
from balise.api.rules import Rule as RuleAnswer
from balise.api.spans import rfc3339, seconds
from balise.core.rules.rings import ring_of
from balise.server.alerts.book import AlertBook
from balise.server.asking import read_filter, span_of
from balise.server.errors import Refused, bad_field, unknown
from balise.server.metrics.questions import unit_of
from balise.server.people.access import audit
from balise.server.plans.held import HeldPlans
from balise.server.rules.doubts import Doubts
from balise.server.rules.rehearsals import Rehearsals
from balise.server.rules.units import Units
from balise.server.rules.versions import Versions, add_version, newest_versions
from balise.server.rules.watch import LONGEST_REST, SLOW, Watch
from balise.server.rules.watched import LimitsOf
from balise.store.state.store import StateStore
from balise.store.state.tables import Alert, AuditEntry, Rule

MOST_RULES = 2000


def shipped_rules() -> list[RuleDocument]:
    """The rules in the package."""
    text = resources.files("balise.server").joinpath("rules/shipped.yaml").read_text("utf-8")
    return [RuleDocument.model_validate(document) for document in yaml.safe_load(text)]


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
        doubts: Doubts,
    ) -> None:
        self._state = state
        self._watch = watch
        self._alerts = alerts
        self._plans = plans
        self._rehearsals = rehearsals
        self._units = units
        self._doubts = doubts
        self._versions = Versions(state)
        self._read: dict[str, tuple[object, RuleBody]] = {}
        """By name what was read of a rule last, and the rule: what is kept is checked once."""

    def ship(self, documents: list[RuleDocument] | None = None, by: str = "balise") -> list[str]:
        """Puts in rules that are new, and renews those that nobody changed; answers the names of those it wrote.

        Args:
            documents: those of a kit; without any, the rules that every console begins with.
        """
        written: list[str] = []
        now = time.time()

        def write(session: Session) -> None:
            there = {r.name: r for r in session.scalars(select(Rule))}
            for document in shipped_rules() if documents is None else documents:
                name, body = document.rule or "", document.alone().model_dump(exclude_none=True)
                row = there.get(name)
                if row is None and not _was_removed(session, name):
                    session.add(Rule(name=name, body=body, shipped=True, updated_at=now, updated_by=by))
                elif row is not None and row.shipped and row.body != body:
                    row.body, row.updated_at = body, now
                else:
                    continue
                add_version(session, name, body, at=now, who=by, what="shipped")
                written.append(name)

        self._state.write(write)
        return written

    def ship_with_kit(self, kit: str, documents: list[RuleDocument]) -> None:
        """Puts a kit's rules to work at once, as `ship` does."""
        by_name = {document.rule: document for document in documents}
        for name in self.ship(documents, f"the kit {kit}"):
            self._watch.change(name, by_name[name].alone(), time.time(), "the kit changed")

    def all(self, start: float | None = None, end: float | None = None) -> list[RuleAnswer]:
        """All rules, with what they did from `start` to `end`, unix seconds; the last seven days unless given."""
        rows, versions, did = self._state.read(
            lambda s: (list(s.scalars(select(Rule).order_by(Rule.name))), newest_versions(s), _did(s, start, end))
        )
        opened = self._opened()
        return [
            self._answer(row, versions.get(row.name, 1), did.get(row.name, NOTHING), opened[row.name]) for row in rows
        ]

    def get(self, name: str) -> RuleAnswer:
        row, versions, did = self._state.read(
            lambda s: (s.get(Rule, name), newest_versions(s), _did(s, None, None, name))
        )
        if row is None:
            raise unknown("rule", name)
        return self._answer(row, versions.get(name, 1), did.get(name, NOTHING), self._opened()[name])

    def body(self, name: str) -> RuleBody | None:
        """What a rule says now; None when there is no such rule."""
        row = self._state.read(lambda s: s.get(Rule, name))
        return RuleBody.model_validate(row.body) if row is not None else None

    def advice_on(self, metric: str) -> str:
        """What the first rule at work on a metric advises; empty when none does."""
        watched = self._watch.rules.copy().values()
        said = (
            rule.body.advice for rule in watched if any(p.metric == metric for p in rule.body.measure.parts.values())
        )
        return next((text.strip() for text in said if text.strip()), "")

    def origins(self) -> dict[str, str]:
        """Where each rule comes from: Balise, a kit, or who wrote it."""
        rows = self._state.read(lambda s: s.execute(select(Rule.name, Rule.updated_by)).all())
        return {name: "Balise" if by == "balise" else by for name, by in rows}

    def _bodies(self) -> dict[str, RuleBody]:
        rows = self._state.read(lambda s: s.execute(select(Rule.name, Rule.body)).all())
        return {name: RuleBody.model_validate(body) for name, body in rows}

    def _opened(self) -> Counter[str]:
        """By rule how many alerts are open now."""
        return Counter(rule for rule, _ in list(self._alerts.open))

    def _body_of(self, row: Rule) -> RuleBody:
        """What a rule says, which nobody changes."""
        said, body = self._read.get(row.name, (None, None))
        if body is None or said != row.body:
            if len(self._read) >= MOST_RULES:
                self._read.clear()
            body = RuleBody.model_validate(row.body)
            self._read[row.name] = row.body, body
        return body

    def _answer(self, row: Rule, version: int, did: Did, opened: int) -> RuleAnswer:
        """`opened` is how many alerts of the rule are open now."""
        body = self._body_of(row)
        work = self._watch.rules.get(row.name)
        slow = self._watch.took.get(row.name, 0.0)
        problem = self._watch.problems.get(row.name, "")
        if not problem and work is not None and slow > SLOW:
            every = slow + min(3 * slow, LONGEST_REST)
            problem = f"takes {slow:.1f} s: it is asked every {every:.0f} s only, so that it delays no other"
        # Its parts have been checked: what is put together here needs no check of its own.
        return RuleAnswer.model_construct(
            **dict(body),
            name=row.name,
            unit=self._unit(body),
            version=version,
            opened=did.opened,
            open_seconds=did.open_seconds,
            untaken=did.untaken,
            problem=problem,
            warnings=self._doubts.of(body) if body.enabled else [],
            learning=work.said if work is not None else "",
            updated_at=rfc3339(row.updated_at),
            updated_by=row.updated_by,
            shipped=row.shipped,
            open_alerts=opened,
        )

    def _unit(self, body: RuleBody) -> str:
        if body.measure.metric is not None:
            return unit_of(
                self._units.of(body.measure.metric), body.measure.taken, self._units.kind_of(body.measure.metric)
            )
        return "" if body.measure.values else "1"

    def check_all(self, documents: Sequence[RuleDocument]) -> list[RuleProblem]:
        """What is wrong with rules that are to be kept together."""
        together = self._bodies() | {one.rule or "": one.alone() for one in documents}
        found = []
        for one in documents:
            try:
                self.check(one.alone(), one.rule or "", together)
            except Refused as refused:
                fields = [(error.field, error.detail) for error in refused.errors] or [("", refused.detail)]
                found += [RuleProblem(rule=one.rule or "", field=field, detail=detail) for field, detail in fields]
        return found

    def check(self, body: RuleBody, name: str = "", others: Mapping[str, RuleBody] | None = None) -> None:
        """Refused 422 when a filter of the rule cannot be read, its times make no sense, or it would feed itself."""
        measure = body.measure
        read_filter(body.hosts, "hosts")
        read_filter(measure.where, "measure.where")
        read_filter(measure.events, "measure.events")
        read_filter(measure.alerts, "measure.alerts")
        for part, value in (measure.values or {}).items():
            read_filter(value.where, f"measure.values.{part}.where")
        if not 1.0 <= body.windows <= 86_400:
            raise bad_field("measure.over", "between 1s and 1d: a rule looks back that far at every second")
        if len(set(measure.each)) != len(measure.each):
            raise bad_field("measure.each", "an attribute is named twice")
        if measure.pattern == "more" and "pattern" not in measure.each:
            raise bad_field("measure.each", "which pattern comes more often is asked of each pattern: add pattern")
        for severity, limit in (("warning", body.limits.warning), ("critical", body.limits.critical)):
            if limit and seconds(limit.hold) > 86_400:
                raise bad_field(f"limits.{severity}.hold", "at most 1d")
        if measure.alerts is not None:
            own = name or "this rule"
            ring = ring_of(own, {**(self._bodies() if others is None else others), own: body})
            if ring is not None:
                way = " -> ".join(ring)
                remedy = f'add: and rule ne "{own}"' if len(ring) == 2 else "leave one of them out of the filter"
                raise bad_field("measure.alerts", f"the rule would feed itself: {way}; {remedy}")

    def put(self, name: str, body: RuleBody, who: str, *, why: str = "", what: str = "written") -> RuleAnswer:
        """Keeps a rule, new or changed, and sets it to work at once."""
        self.check(body, name)
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
            add_version(session, name, content, at=now, who=who, why=why, what=what)
            audit(session, who, "rule.put", name, why=why)

        self._state.write(write)
        self._watch.change(name, body, now, "rule changed")
        return self.get(name)

    def versions(self, name: str) -> list[RuleVersion]:
        """Every form that a rule had, the newest first. Raises Refused 404."""
        return self._versions.of(name)

    def restore(self, name: str, version: int, who: str) -> RuleAnswer:
        """Puts a rule to work as it was in a version, also one that was deleted. Raises Refused 404."""
        body = RuleBody.model_validate(self._versions.body(name, version))
        return self.put(name, body, who, why=f"as in version {version}", what="restored")

    def delete(self, name: str, who: str) -> None:
        def write(session: Session) -> None:
            row = session.get(Rule, name)
            if row is None:
                raise unknown("rule", name)
            add_version(session, name, row.body, at=time.time(), who=who, what="deleted")
            session.delete(row)
            audit(session, who, "rule.delete", name, body=row.body)

        self._state.write(write)
        self._watch.change(name, None, time.time(), "rule deleted")

    def rehearse(self, request: Rehearse) -> Rehearsal:
        """What the rule would have done over the span, with the limits that plans give hosts now."""
        body, start, end, limits_of = self._asked(request)
        in_force = self.body(request.rule.rule) if request.rule.rule else None
        return self._rehearsals.run(body, start, end, limits_of, in_force)

    def suggest(self, request: Suggest) -> Suggestion:
        """Limits that would have opened seldom enough."""
        body, start, end, _ = self._asked(request)
        return self._rehearsals.suggest(body, start, end, request.at_most_a_week, lambda _rule, _host: None)

    def _asked(self, request: Rehearse) -> tuple[RuleBody, float, float, LimitsOf]:
        body = request.rule.alone()
        name = request.rule.rule or ""
        self.check(body, name)
        start, end = span_of(request.from_, request.to, time.time())
        return body, start, end, lambda _rule, host: self._plans.limits_of(name, host)


@dataclass(frozen=True)
class Did:
    """What a rule did over a span."""

    opened: int = 0
    open_seconds: float = 0.0
    untaken: int = 0


NOTHING = Did()


def _did(session: Session, start: float | None, end: float | None, rule: str | None = None) -> dict[str, Did]:
    until = time.time() if end is None else end
    since = until - 7 * 86_400 if start is None else start
    stays = func.min(func.coalesce(Alert.recovered_at, until), until) - func.max(Alert.opened_at, since)
    query = (
        select(
            Alert.rule,
            func.sum(case((Alert.opened_at >= since, 1), else_=0)),
            func.sum(stays),
            func.sum(case((and_(Alert.opened_at >= since, Alert.acknowledged_by.is_(None)), 1), else_=0)),
        )
        .where(Alert.opened_at < until, or_(Alert.recovered_at.is_(None), Alert.recovered_at >= since))
        .group_by(Alert.rule)
    )
    if rule is not None:
        query = query.where(Alert.rule == rule)
    return {name: Did(int(opened), float(stayed), int(alone)) for name, opened, stayed, alone in session.execute(query)}


def _was_removed(session: Session, name: str) -> bool:
    """Whether somebody removed a shipped rule: then it does not come back."""
    query = select(AuditEntry.id).where(AuditEntry.what == "rule.delete", AuditEntry.target == name).limit(1)
    return session.scalar(query) is not None
