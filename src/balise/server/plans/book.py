"""Plans: kept with their versions, checked, compared, and laid over one another for every host."""

from __future__ import annotations

import time

import yaml
from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.limits import LimitKind
from balise.api.plans import Plan, PlanBody, PlanChange, PlanCheck, PlanDiff, PlanDocument, PlanHosts
from balise.api.problems import FieldProblem
from balise.api.rules import RuleBody
from balise.api.spans import rfc3339
from balise.core import filters
from balise.core.documents import DocumentError, place_of, read_document
from balise.core.plans import NamedPlan, differences, in_order, stack
from balise.server.errors import Refused, unknown
from balise.server.filters.book import FilterBook
from balise.server.hosts.directory import Directory
from balise.server.people.access import audit
from balise.server.plans.held import HeldPlans, view
from balise.server.signals import Signal
from balise.store.state import tables
from balise.store.state.store import StateStore

MOST_PLANS = 2000
DAY = 86_400.0
MOST_CHANGES = 500


class PlanBook:
    """All plans."""

    def __init__(self, *, state: StateStore, directory: Directory, held: HeldPlans, filters: FilterBook) -> None:
        self._filters = filters
        self._state = state
        self._directory = directory
        self._held = held
        self._looked_at = 0.0
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
        return self._with_named_filters(document)

    def _with_named_filters(self, document: PlanDocument) -> PlanDocument:
        """A plan with its filters of a name written out, as they are now; its text keeps their names."""
        who, files = document.for_, document.follow
        if who.filter is not None:
            who = PlanHosts(hosts=self._filters.text(None, who.filter))
        files = [
            file.model_copy(update={"send": self._filters.text(file.send, file.filter), "filter": None})
            for file in files
        ]
        return document.model_copy(update={"for_": who, "follow": files})

    def _doubts(self, document: PlanDocument) -> list[tuple[list[str], str]]:
        """What a schema cannot know: filters, groups and rules that are not there."""
        found: list[tuple[list[str], str]] = []
        who = document.for_
        if who.hosts is not None:
            try:
                filters.parse(who.hosts)
            except filters.FilterError as error:
                found.append((["for", "hosts"], str(error)))
        names = [(["for", "filter"], who.filter)]
        names += [(["follow", str(number), "filter"], file.filter) for number, file in enumerate(document.follow)]
        for path, name in names:
            if name is not None and not self._filters.has(name):
                found.append((path, f"there is no filter {name!r}: balise filter list shows those there are"))
        for number, file in enumerate(document.follow):
            try:
                filters.parse(file.send or "body pr")
            except filters.FilterError as error:
                found.append((["follow", str(number), "send"], str(error)))
        for group in who.groups or []:
            if group not in self._directory.groups:
                found.append((["for", "groups"], f"there is no group {group!r}"))
        if who.host is not None and self._directory.find(who.host) is None:
            found.append((["for", "host"], f"there is no host {who.host!r}"))
        for rule, limits in document.limits.items():
            kind = self._kind_of(rule)
            if kind is None:
                found.append((["limits", rule], "there is no rule of this name"))
            elif limits.kind != kind:
                found.append((["limits", rule], f"the rule says {kind}: its limits cannot say {limits.kind}"))
        for number, rule in enumerate(document.snooze):
            if self._kind_of(rule) is None:
                found.append((["snooze", str(number)], "there is no rule of this name"))
        return found

    def _kind_of(self, rule: str) -> LimitKind | None:
        """What the limits of a rule say; None when there is no such rule."""
        row = self._state.read(lambda s: s.get(tables.Rule, rule))
        return None if row is None else RuleBody.model_validate(row.body).limits.kind

    def check(self, text: str) -> PlanCheck:
        """Whether a text is a good plan, without keeping it."""
        try:
            document = self._read(text)
        except DocumentError as error:
            return PlanCheck(good=False, name=None, problems=error.told(), hosts=0)
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
        self._after_change(before | set(body.limits) | set(body.snooze))
        return self.get(document.plan)

    def _limits_in(self, name: str) -> set[str]:
        said = [plan.body for plan in self._held.plans if plan.name == name]
        return {rule for body in said for rule in (*body.limits, *body.snooze)}

    def end_those_over(self, now: float) -> None:
        """Plans whose time is over say nothing any more; a day later they are deleted."""
        over = [plan for plan in self._held.plans if plan.body.is_over(now)]
        if over:
            rules = {rule for plan in over for rule in self._limits_in(plan.name)}
            self._after_change(rules)

        def delete(session: Session) -> None:
            for row in session.scalars(select(tables.Plan)):
                if PlanBody.model_validate(row.body).is_over(now - DAY):
                    session.delete(row)
                    audit(session, "balise", "plan.over", row.name)

        if now - self._looked_at > 3600:
            self._looked_at = now
            self._state.write(delete)

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
