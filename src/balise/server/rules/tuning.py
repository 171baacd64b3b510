"""Other limits for a host, a group or everybody, from an alert; and which rules watch a host."""

from __future__ import annotations

import time
from datetime import UTC, datetime
from typing import Any, Literal

import numpy as np
import yaml
from pydantic import ValidationError

from balise.api.limits import Limits
from balise.api.problems import message_of
from balise.api.rules import HostRule, RuleBody
from balise.api.spans import instant, rfc3339
from balise.api.tuning import Tune, Tuned, TunedOver
from balise.core.plans import OFF, laid_over
from balise.core.rule_words import limits_in_words
from balise.core.rules.limits import LEVEL_NAMES
from balise.server.alerts.book import AlertBook
from balise.server.alerts.search import AlertSearch
from balise.server.errors import Refused, bad_field, unknown
from balise.server.hosts.directory import Directory, Known
from balise.server.plans.book import PlanBook
from balise.server.plans.held import HeldPlans
from balise.server.rules.book import RuleBook
from balise.server.rules.rehearsals import Rehearsals
from balise.server.rules.watch import Watch
from balise.server.rules.watched import LimitsOf, Watched

DAYS = (7, 30)
DAY = 86_400.0


class Tuning:
    """Changes limits where they hurt. What it would have changed is said before anything is."""

    def __init__(
        self,
        *,
        rules: RuleBook,
        rehearsals: Rehearsals,
        alerts: AlertSearch,
        book: AlertBook,
        plans: PlanBook,
        held: HeldPlans,
        directory: Directory,
        watch: Watch,
    ) -> None:
        self._rules = rules
        self._rehearsals = rehearsals
        self._alerts = alerts
        self._book = book
        self._plans = plans
        self._held = held
        self._directory = directory
        self._watch = watch

    def tune(self, alert: int, body: Tune, who: str) -> Tuned:
        """Raises Refused: 404 for an unknown alert, 422 naming the field that makes no sense."""
        told = self._alerts.get(alert)
        rule = self._rules.body(told.rule)
        if rule is None:
            raise Refused(409, f"The rule {told.rule} is no more: there is nothing to tune.")
        until = self._until(body)
        if body.for_ == "all":
            return self._for_all(told.rule, rule, body, who)
        known = self._directory.find(told.host)
        if known is None:
            raise bad_field("for", "the alert is of no host that is here: tune the rule for all")
        hosts, whom, named = self._whom(known, body)
        limits = self._merged(told.rule, rule, known, body.limits)
        plan = f"tuned {named}"[:80] + (f" until {datetime.fromtimestamp(until, UTC):%Y-%m-%d %H.%M}" if until else "")
        before = {host.id: self._held.limits_of(told.rule, host.id) for host in hosts}
        after = {
            number: OFF if limits is None else _whole(limits, own or rule.limits) for number, own in before.items()
        }
        if not body.dry_run:
            why = f"{who}, {rfc3339(time.time())[:10]}: {body.why}"
            self._plans.put(self._text(plan, whom, told.rule, limits, until, why), who, plan)
        return Tuned(
            done=not body.dry_run,
            plan=plan,
            rule=told.rule,
            hosts=len(hosts),
            before=_told(_whole(before[known.id], rule.limits)),
            after=_told(_whole(after[known.id], rule.limits)),
            over=self._over(rule, rule, set(before), lambda _, host: before.get(host), lambda _, host: after.get(host)),
        )

    @staticmethod
    def _until(body: Tune) -> float | None:
        if body.limits is None and body.until is None:
            raise bad_field("until", "a rule is off for a time: say until when, such as +4h; or give limits")
        if body.until is None:
            return None
        if body.for_ == "all":
            raise bad_field("until", "the rule itself has no end: tune a host or a group for a time")
        now = time.time()
        until = instant(body.until, now)
        if not now < until <= now + 366 * DAY:
            raise bad_field("until", "it ends within a year from now: write +4h, +3d or a time")
        return until

    def _whom(self, known: Known, body: Tune) -> tuple[list[Known], dict[str, Any], str]:
        if body.for_ == "host":
            return [known], {"host": known.name}, known.name
        groups = list(known.groups)
        if not groups:
            raise bad_field("for", f"{known.name} is in no group: tune the host, or all")
        group = body.group or max(groups, key=self._held.depth)
        if group not in groups:
            raise bad_field("group", f"{known.name} is not in {group}: it is in {', '.join(groups)}")
        hosts = [one for one in self._directory.all() if group in one.groups]
        return hosts, {"groups": [group]}, group

    def _merged(self, name: str, rule: RuleBody, known: Known, limits: Limits | None) -> Limits | None:
        """The limits that will hold: a severity that is not given stays."""
        if limits is None:
            return None
        if limits.kind != rule.limits.kind:
            raise bad_field("limits", f"the rule says {rule.limits.kind}: its limits cannot say {limits.kind}")
        before = self._held.limits_of(name, known.id)
        now = before if isinstance(before, Limits) else rule.limits
        _together(limits, now)
        return limits

    def _text(
        self, plan: str, whom: dict[str, Any], rule: str, limits: Limits | None, until: float | None, why: str
    ) -> str:
        """The plan's text, with what it says of other rules."""
        held = next((one for one in self._held.plans if one.name == plan), None)
        said = held.body.model_dump(mode="json", by_alias=True, exclude_defaults=True) if held is not None else {}
        said = {"plan": plan, "about": "limits tuned from alerts", "for": whom, **said}
        if until is not None:
            said["until"] = rfc3339(until)
        if limits is not None:
            said["limits"] = {**said.get("limits", {}), rule: limits.model_dump(mode="json", exclude_none=True)}
        else:
            said["snooze"] = sorted({*said.get("snooze", []), rule})
        said["reasons"] = {**said.get("reasons", {}), rule: why}
        return yaml.safe_dump(said, sort_keys=False, allow_unicode=True)

    def _for_all(self, name: str, rule: RuleBody, body: Tune, who: str) -> Tuned:
        limits = body.limits
        if limits is None or limits.kind != rule.limits.kind:
            raise bad_field("limits", f"the rule says {rule.limits.kind}: give limits that say the same")
        merged = _together(limits, rule.limits)
        changed = rule.model_copy(update={"limits": merged})
        if not body.dry_run:
            self._rules.put(name, changed, who, why=body.why)
        mine = {known.id for known in self._directory.all()}
        keep: LimitsOf = lambda _rule, host: self._held.limits_of(name, host)  # noqa: E731
        return Tuned(
            done=not body.dry_run,
            plan=None,
            rule=name,
            hosts=len(mine),
            before=_told(rule.limits),
            after=_told(merged),
            over=self._over(rule, changed, mine, keep, keep),
        )

    def _over(
        self, rule: RuleBody, changed: RuleBody, hosts: set[int], before: LimitsOf, after: LimitsOf
    ) -> list[TunedOver]:
        now = time.time()
        found = []
        for days in DAYS:
            runs: list[tuple[int, float, list[str]]] = []
            notes: list[str] = []
            known = True
            for body, limits_of in ((rule, before), (changed, after)):
                try:
                    runs.append(self._rehearsals.totals(body, now - days * DAY, now, limits_of, hosts))
                except Refused as refused:
                    known = False
                    runs.append((0, 0.0, [f"it could not be looked at: {refused.detail}"]))
                notes += runs[-1][2]
            (opened, stayed, _), (would_open, would_stay, _) = runs
            found.append(
                TunedOver(
                    days=days,
                    opened=opened,
                    would_open=would_open,
                    open_seconds=stayed,
                    would_be_open_seconds=would_stay,
                    known=known,
                    note="; ".join(dict.fromkeys(notes)),
                )
            )
        return found

    # --- what watches a host

    def of_host(self, name: str) -> list[HostRule]:
        """Every rule that watches a host, the nearest to breach first. Raises Refused 404."""
        known = self._directory.find(name)
        if known is None:
            raise unknown("host", name)
        origins = self._rules.origins()
        rules = list(self._watch.rules.values())
        found = [one for rule in rules for one in self._of_rule(rule, known, origins.get(rule.name, ""))]
        return sorted(found, key=lambda one: (one.distance is None, one.distance, one.rule))

    def _of_rule(self, rule: Watched, known: Known, origin: str) -> list[HostRule]:
        look = self._watch.looks.get(rule.name)
        found = []
        plan = self._held.of(known).sources.get(f"limits.{rule.name}")
        own = self._held.limits_of(rule.name, known.id)
        for number in rule.groups.of_host(known.id):
            group = rule.groups[number]
            if rule.feeds and not rule.groups.rows_of(number):
                continue
            value = near = None
            if look is not None and number < len(look.values):
                one = look.part(slice(number, number + 1))
                value = rule.shown(look, number)
                near = rule.machine.nearness_of(one, number)
            held = self._book.open.get((rule.name, group.key))
            limits = rule.body.limits if own is None or own == OFF else laid_over(rule.body.limits, own)
            found.append(
                HostRule(
                    rule=rule.name,
                    about=rule.body.about,
                    attributes=group.attributes,
                    **{"from": f"plan {plan}" if plan else origin},
                    limits=limits,
                    unit=rule.told_unit,
                    value=value if value is not None and np.isfinite(value) else None,
                    level=LEVEL_NAMES[int(rule.machine.level[number])],  # type: ignore[arg-type]
                    distance=None if near is None or value is None or np.isnan(value) else 1 - near,
                    note="off for now" if own == OFF else rule.said_of(look, number),
                    alert=held.id if held is not None else None,
                )
            )
        return found


def _together(limits: Limits, held: Limits) -> Limits:
    """Limits with a severity that is not given as it is now. Raises Refused 422 when they make no sense together."""
    try:
        return Limits(warning=limits.warning or held.warning, critical=limits.critical or held.critical)
    except ValidationError as error:
        raise bad_field("limits", message_of(error.errors()[0])) from None


def _whole(own: Limits | Literal["off"] | None, under: Limits | Literal["off"]) -> Limits | Literal["off"]:
    """Limits with those of a severity that they leave out."""
    if own is None:
        return under
    return laid_over(under, own) if isinstance(own, Limits) and isinstance(under, Limits) else own


def _told(limits: Any) -> str:
    return "off" if limits == OFF else limits_in_words(limits, "")
