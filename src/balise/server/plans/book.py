"""Plans: kept with their versions, checked, compared, and laid over one another for every host."""

from __future__ import annotations

import time

import yaml
from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.plans import Plan, PlanBody, PlanChange, PlanCheck, PlanDiff, PlanDocument, PlanProblem
from balise.api.problems import FieldProblem
from balise.api.rules import RuleBody
from balise.api.spans import rfc3339
from balise.core import filters
from balise.core.documents import DocumentError, place_of, read_document
from balise.core.plans import NamedPlan, differences, in_order, stack
from balise.server.errors import Refused, unknown
from balise.server.hosts.directory import Directory
from balise.server.people.access import audit
from balise.server.plans.held import HeldPlans, view
from balise.server.signals import Signal
from balise.store.state import tables
from balise.store.state.store import StateStore

MOST_PLANS = 2000
MOST_CHANGES = 500


class PlanBook:
    """All plans."""

    def __init__(self, *, state: StateStore, directory: Directory, held: HeldPlans) -> None:
        self._state = state
        self._directory = directory
        self._held = held
        self.changed = Signal[set[str]]("plan")
        """Told, after a plan changed, the rules whose limits it has or had."""

    def all(self) -> list[Plan]:
        rows = {row.name: row for row in self._state.read(lambda s: list(s.scalars(select(tables.Plan))))}
        return [self._answer(rows[plan.name], plan.body) for plan in self._held.plans if plan.name in rows]

    def get(self, name: str) -> Plan:
        row = self._state.read(lambda s: s.get(tables.Plan, name))
        if row is None:
            raise unknown("plan", name)
        return self._answer(row, PlanBody.model_validate(row.body))

    def _answer(self, row: tables.Plan, body: PlanBody) -> Plan:
        return Plan(
            name=row.name,
            version=row.version,
            text=row.text,
            body=row.body,
            hosts=len(self._held.hosts_of(body)),
            updated_at=rfc3339(row.updated_at),
            updated_by=row.updated_by,
        )

    def _read(self, text: str) -> PlanDocument:
        """Raises DocumentError with lines and columns."""
        document = read_document(text, PlanDocument)
        problems = []
        for path, problem in self._doubts(document):
            # Read again for the place: it is only known while the text is at hand.
            problems.append((_place(text, path), ".".join(path), f"{'.'.join(path)}: {problem}"))
        if problems:
            raise DocumentError(problems)
        return document

    def _doubts(self, document: PlanDocument) -> list[tuple[list[str], str]]:
        """What a schema cannot know: filters, groups and rules that are not there."""
        found: list[tuple[list[str], str]] = []
        who = document.for_
        if who.hosts is not None:
            try:
                filters.parse(who.hosts)
            except filters.FilterError as error:
                found.append((["for", "hosts"], str(error)))
        for group in who.groups or []:
            if group not in self._directory.groups:
                found.append((["for", "groups"], f"there is no group {group!r}"))
        if who.host is not None and self._directory.find(who.host) is None:
            found.append((["for", "host"], f"there is no host {who.host!r}"))
        for rule, limits in document.limits.items():
            direction = self._direction_of(rule)
            limit = limits.warning or limits.critical
            if direction is None:
                found.append((["limits", rule], "there is no rule of this name"))
            elif limit is not None and getattr(limit, direction) is None:
                found.append((["limits", rule], f"the rule says {direction}: its limits cannot point the other way"))
        return found

    def _direction_of(self, rule: str) -> str | None:
        """Whether the limits of a rule are `above` or `below`; None when there is no such rule."""
        row = self._state.read(lambda s: s.get(tables.Rule, rule))
        if row is None:
            return None
        limits = RuleBody.model_validate(row.body).limits
        limit = limits.warning or limits.critical
        return "above" if limit is not None and limit.above is not None else "below"

    def check(self, text: str) -> PlanCheck:
        """Whether a text is a good plan, without keeping it."""
        try:
            document = self._read(text)
        except DocumentError as error:
            problems = [PlanProblem(line=p[0], column=p[1], field=f, detail=d) for p, f, d in error.problems]
            return PlanCheck(good=False, name=None, problems=problems, hosts=0)
        return PlanCheck(good=True, name=document.plan, problems=[], hosts=len(self._held.hosts_of(document)))

    def put(self, text: str, who: str, name: str | None = None) -> Plan:
        """Keeps a plan as written, as its next version.

        Raises:
            Refused: 422 with line and column of what is wrong.
        """
        try:
            document = self._read(text)
        except DocumentError as error:
            raise _refused(error) from None
        if name is not None and document.plan != name:
            raise Refused(422, f"The text is of the plan {document.plan!r}, and was sent for {name!r}.")
        body = PlanBody.model_validate(document.model_dump(exclude={"plan"}))
        before = self._limits_in(document.plan)

        def write(session: Session) -> None:
            row = session.get(tables.Plan, document.plan)
            if row is None:
                if len(self._held.plans) >= MOST_PLANS:
                    raise Refused(409, f"There are {MOST_PLANS} plans already: delete some first.")
                row = tables.Plan(name=document.plan, version=0)
                session.add(row)
            row.version += 1
            row.text, row.body = text, body.model_dump(mode="json", exclude_defaults=True, by_alias=True)
            row.updated_at, row.updated_by = time.time(), who
            session.flush()
            audit(session, who, "plan.put", document.plan, version=row.version)

        self._state.write(write)
        self._after_change(before | set(body.limits))
        return self.get(document.plan)

    def _limits_in(self, name: str) -> set[str]:
        return {rule for plan in self._held.plans if plan.name == name for rule in plan.body.limits}

    def delete(self, name: str, who: str) -> None:
        before = self._limits_in(name)

        def write(session: Session) -> None:
            row = session.get(tables.Plan, name)
            if row is None:
                raise unknown("plan", name)
            session.delete(row)
            audit(session, who, "plan.delete", name)

        self._state.write(write)
        self._after_change(before)

    def _after_change(self, rules: set[str]) -> None:
        self._held.load()
        self.changed.tell(rules)

    def diff(self, text: str) -> PlanDiff:
        """What keeping a text would change, host by host.

        Raises:
            Refused: 422 as `put`.
        """
        try:
            document = self._read(text)
        except DocumentError as error:
            raise _refused(error) from None
        changed = NamedPlan(document.plan, PlanBody.model_validate(document.model_dump(exclude={"plan"})))
        others = [plan for plan in self._held.plans if plan.name != changed.name]
        after = in_order([*others, changed], self._held.depth)
        found: list[PlanChange] = []
        hosts = left_out = 0
        for known in sorted(self._directory.all(), key=lambda k: k.name):
            rows = differences(self._held.of(known), stack(after, view(known)))
            hosts += bool(rows)
            for setting, old, new in rows:
                if len(found) < MOST_CHANGES:
                    found.append(PlanChange(host=known.name, setting=setting, before=old, after=new))
                else:
                    left_out += 1
        return PlanDiff(items=found, hosts=hosts, left_out=left_out)


def _place(text: str, path: list[str]) -> tuple[int, int]:
    """Line and column of what is at a path in a text that was read before."""
    node = yaml.compose(text, Loader=yaml.SafeLoader)
    return place_of(node, path) if node is not None else (1, 1)


def _refused(error: DocumentError) -> Refused:
    fields = [
        FieldProblem(field=field or "text", detail=f"line {place[0]}, column {place[1]}: {detail}")
        for place, field, detail in error.problems
    ]
    return Refused(422, f"The plan is not kept: {error}", errors=fields)
