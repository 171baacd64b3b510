"""Plans: kept with their versions, checked, compared, and laid over one another for every host."""

from __future__ import annotations

import asyncio
import hashlib
import random
import threading
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.parts import EffectivePlan, default_setting
from balise.api.plans import HostPlan, Plan, PlanBody, PlanChange, PlanCheck, PlanDiff, PlanDocument, PlanProblem
from balise.api.problems import FieldProblem
from balise.api.remote import FollowedFile
from balise.api.rules import Limits
from balise.api.secrets import REVEALED
from balise.api.services import ServiceTarget
from balise.api.spans import rfc3339
from balise.core import filters
from balise.core.documents import DocumentError, read_document
from balise.core.plans import HostView, NamedPlan, Stacked, differences, in_order, is_for, stack
from balise.server.errors import Refused, unknown
from balise.server.hosts.directory import Directory, Known, attribute_of
from balise.server.people.access import audit
from balise.store.state import tables
from balise.store.state.store import StateStore

MOST_PLANS = 2000
MOST_CHANGES = 500


@dataclass(frozen=True)
class FromAfar:
    """A plan for a host that is read over the network. `every` is seconds, None when no plan says."""

    every: float | None = None
    follow: list[FollowedFile] = field(default_factory=list)
    off: list[str] = field(default_factory=list)
    inventory_every: float | None = 3600.0
    refresh: int = 0


class PlanBook:
    """All plans. What holds for a host is worked out anew when plans, hosts or groups change."""

    def __init__(self, state: StateStore, directory: Directory) -> None:
        self._state = state
        self._directory = directory
        self._lock = threading.Lock()
        self._plans: list[NamedPlan] = []
        self._stacked: dict[int, tuple[Stacked, str]] = {}
        self._version = -1
        self._loop: asyncio.AbstractEventLoop | None = None
        self._waiting: dict[int, asyncio.Event] = {}
        self._stopped = False
        self.changed: Callable[[set[str]], None] = lambda _rules: None
        """Called after a plan changed, with the rules whose limits it has or had."""
        self._refreshes: dict[int, int] = {}
        self.services_of: Callable[[Known], list[ServiceTarget]] = lambda _host: []
        """The services that the agent of a host reads itself."""
        self.rule_direction: Callable[[str], str | None] = lambda _rule: None
        """`above` or `below` for a rule that there is."""
        self._load()

    def _load(self) -> None:
        rows = self._state.read(lambda s: list(s.scalars(select(tables.Plan))))
        named = [NamedPlan(row.name, PlanBody.model_validate(row.body)) for row in rows]
        with self._lock:
            self._plans = in_order(named, self._depth)
            self._stacked.clear()

    def _depth(self, group: str) -> int:
        return len(self._directory.lineage(group))

    # --- what holds

    def of(self, known: Known) -> Stacked:
        """What holds for a host."""
        return self._held(known)[0]

    def _held(self, known: Known) -> tuple[Stacked, str]:
        with self._lock:
            if self._version != self._directory.version:
                self._version = self._directory.version
                self._plans = in_order(self._plans, self._depth)
                self._stacked.clear()
            held = self._stacked.get(known.id)
            if held is None:
                stacked = stack(self._plans, _view(known))
                text = stacked.effective().model_dump_json()
                held = self._stacked[known.id] = (stacked, hashlib.sha256(text.encode()).hexdigest()[:16])
            return held

    def effective(self, known: Known) -> EffectivePlan:
        stacked, etag = self._held(known)
        plan = stacked.effective()
        plan.services = self.services_of(known)
        plan.refresh = self._refreshes.get(known.id, 0)
        if plan.refresh:
            etag = hashlib.sha256(f"{etag} {plan.refresh}".encode()).hexdigest()[:16]
        if plan.services:
            read = "".join(service.model_dump_json(exclude={"kit"}, context=REVEALED) for service in plan.services)
            etag = hashlib.sha256(f"{etag} {read}".encode()).hexdigest()[:16]
        plan.etag = etag
        return plan

    def from_afar(self, known: Known) -> FromAfar:
        """What a host's plan says to whoever reads it over the network."""
        stacked = self.of(known)
        inventory = stacked.collectors.get("inventory") or default_setting("inventory")
        return FromAfar(
            every=stacked.every if "collect.every" in stacked.sources else None,
            follow=[stacked.follow[path] for path in sorted(stacked.follow)],
            off=[name for name, setting in sorted(stacked.collectors.items()) if not setting.on],
            inventory_every=inventory.every if inventory.on else None,
            refresh=self._refreshes.get(known.id, 0),
        )

    def limits_of(self, rule: str, host: int) -> Limits | None:
        """What plans say of a rule's limits on a host."""
        if rule not in self.planned_rules():
            return None
        known = self._directory.get(host)
        return self.of(known).limits.get(rule) if known else None

    def planned_rules(self) -> set[str]:
        return {rule for plan in self._plans for rule in plan.body.limits}

    def refresh(self, known: Known) -> None:
        """Has a host's agent tell its inventory at once."""
        self._refreshes[known.id] = int(time.time() * 1000)
        self.wake([known.id])

    def applications(self) -> list[tuple[str, str, str, list[str]]]:
        """What plans say of applications: plan, application, host, and the parts that the host needs."""
        found = []
        for plan in self._plans:
            said = plan.body.application
            if said is not None:
                hosts = (known for known in self._directory.all() if is_for(plan.body, _view(known)))
                found += [(plan.name, said.name, known.name, said.needs) for known in hosts]
        return found

    def of_host(self, name: str, report: dict[str, Any] | None) -> HostPlan:
        """What holds for a host, for people; `report` is its agent's last."""
        known = self._directory.find(name)
        if known is None:
            raise unknown("host", name)
        stacked, etag = self._held(known)[0], self.effective(known).etag
        told = (report or {}).get("plan")
        applied = "no agent" if known.mode != "resident" or report is None else "not yet"
        problems: list[str] = []
        if isinstance(told, dict) and known.mode == "resident":
            applied = "yes" if told.get("etag") == etag else "not yet"
            problems = [str(p)[:300] for p in told.get("problems") or []][:50]
        return HostPlan(settings=stacked.settings(), plans=stacked.plans, problems=problems, applied=applied)  # type: ignore[arg-type]

    async def wait_for(self, host: int, etag: str, seconds: float) -> EffectivePlan | None:
        """An agent's plan, as soon as it is another than the one it has; None when that does not come in time."""
        end = time.monotonic() + seconds
        while True:
            changed = self._waiting.setdefault(host, asyncio.Event())
            known = self._directory.get(host)
            if known is None:
                raise Refused(401, "The host is gone: enrol it again.")
            plan = self.effective(known)
            left = end - time.monotonic()
            if plan.etag != etag or self._loop is None:
                return plan
            if left <= 0 or self._stopped:
                self._waiting.pop(host, None)
                return None
            try:
                await asyncio.wait_for(changed.wait(), left)
            except TimeoutError:
                self._waiting.pop(host, None)
                return None
            # A whole fleet that wakes at once takes its turns over a second.
            await asyncio.sleep(random.uniform(0.0, min(1.0, len(self._waiting) / 500)))  # noqa: S311  spread, no secret

    def start(self, loop: asyncio.AbstractEventLoop) -> None:
        self._loop = loop

    def stop(self) -> None:
        """Lets go of all that wait, for good."""
        self._stopped = True
        self.wake()

    def wake(self, hosts: Iterable[int] | None = None) -> None:
        """Lets agents that wait for their plan look again: those of these hosts, or all."""
        if self._loop is not None and not self._loop.is_closed():
            self._loop.call_soon_threadsafe(self._wake, None if hosts is None else list(hosts))

    def _wake(self, hosts: list[int] | None) -> None:
        for host in list(self._waiting) if hosts is None else hosts:
            changed = self._waiting.pop(host, None)
            if changed is not None:
                changed.set()

    # --- keeping

    def all(self) -> list[Plan]:
        rows = {row.name: row for row in self._state.read(lambda s: list(s.scalars(select(tables.Plan))))}
        return [self._answer(rows[plan.name], plan.body) for plan in self._plans if plan.name in rows]

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
            hosts=len(self._for(body)),
            updated_at=rfc3339(row.updated_at),
            updated_by=row.updated_by,
        )

    def _for(self, body: PlanBody) -> list[Known]:
        return [known for known in self._directory.all() if is_for(body, _view(known))]

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
            direction = self.rule_direction(rule)
            limit = limits.warning or limits.critical
            if direction is None:
                found.append((["limits", rule], "there is no rule of this name"))
            elif limit is not None and getattr(limit, direction) is None:
                found.append((["limits", rule], f"the rule says {direction}: its limits cannot point the other way"))
        return found

    def check(self, text: str) -> PlanCheck:
        """Whether a text is a good plan, without keeping it."""
        try:
            document = self._read(text)
        except DocumentError as error:
            problems = [PlanProblem(line=p[0], column=p[1], field=f, detail=d) for p, f, d in error.problems]
            return PlanCheck(good=False, name=None, problems=problems, hosts=0)
        return PlanCheck(good=True, name=document.plan, problems=[], hosts=len(self._for(document)))

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
                if len(self._plans) >= MOST_PLANS:
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
        return {rule for plan in self._plans if plan.name == name for rule in plan.body.limits}

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
        self._load()
        self.wake()
        self.changed(rules)

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
        others = [plan for plan in self._plans if plan.name != changed.name]
        after = in_order([*others, changed], self._depth)
        found: list[PlanChange] = []
        hosts = left_out = 0
        for known in sorted(self._directory.all(), key=lambda k: k.name):
            rows = differences(self.of(known), stack(after, _view(known)))
            hosts += bool(rows)
            for setting, old, new in rows:
                if len(found) < MOST_CHANGES:
                    found.append(PlanChange(host=known.name, setting=setting, before=old, after=new))
                else:
                    left_out += 1
        return PlanDiff(items=found, hosts=hosts, left_out=left_out)


def _view(known: Known) -> HostView:
    return HostView(known.name, known.groups, lambda name: attribute_of(known, name))


def _place(text: str, path: list[str]) -> tuple[int, int]:
    import yaml

    from balise.core.documents import place_of

    return place_of(yaml.compose(text, Loader=yaml.SafeLoader), path)


def _refused(error: DocumentError) -> Refused:
    fields = [
        FieldProblem(field=field or "text", detail=f"line {place[0]}, column {place[1]}: {detail}")
        for place, field, detail in error.problems
    ]
    return Refused(422, f"The plan is not kept: {error}", errors=fields)
