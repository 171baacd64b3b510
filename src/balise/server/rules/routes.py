"""Rules: looking, keeping, rehearsing, and what they know of metrics."""

from __future__ import annotations

import time
from typing import Annotated

from fastapi import APIRouter, Query, Response

from balise.api.foresight import BaselineAnswer, BaselineQuery, ForecastAnswer, ForecastQuery
from balise.api.lists import Note, Page
from balise.api.rules import (
    HostRule,
    Rehearsal,
    Rehearse,
    Restore,
    Rule,
    RuleChange,
    RuleDocument,
    RuleProblem,
    RuleRead,
    RulesChecked,
    RuleText,
    RuleVersion,
    Suggest,
    Suggestion,
)
from balise.api.spans import Instant, Name
from balise.api.tuning import Tune, Tuned
from balise.core.rule_text import rule_text
from balise.server.asking import span_of
from balise.server.callers import Number, Operator, Turn, Viewer, part
from balise.server.filters.book import FilterBook
from balise.server.packing import packed
from balise.server.rules.book import RuleBook
from balise.server.rules.foresight import Foresight
from balise.server.rules.texts import read_text
from balise.server.rules.tuning import Tuning

router = APIRouter()
FiltersHere = Annotated[FilterBook, part(FilterBook)]
RulesHere = Annotated[RuleBook, part(RuleBook)]
TuningHere = Annotated[Tuning, part(Tuning)]
ForesightHere = Annotated[Foresight, part(Foresight)]


@router.get("/rules", tags=["rules"], response_model=Page[Rule])
async def list_rules(
    rules: RulesHere,
    _who: Viewer,
    from_: Annotated[Instant, Query(alias="from")] = "-7d",
    to: Instant = "now",
) -> Response:
    """All rules, with how often each opened in the span, for how long, and how often nobody took it."""
    start, end = span_of(from_, to, time.time())
    return await packed(lambda: Page[Rule](items=rules.all(start, end)))


@router.post("/rules/rehearse", tags=["rules"], response_model=Rehearsal)
async def rehearse_rule(rules: RulesHere, filters: FiltersHere, turn: Turn, who: Viewer, body: Rehearse) -> Response:
    rule = filters.put_in(body.rule, "hosts")
    return await turn.answered_at_length(who, lambda: rules.rehearse(body.model_copy(update={"rule": rule})))


@router.post("/rules/suggest", tags=["rules"], response_model=Suggestion)
async def suggest_limits(rules: RulesHere, filters: FiltersHere, turn: Turn, who: Viewer, body: Suggest) -> Response:
    """Limits that would have opened at most so often, by what was measured."""
    rule = filters.put_in(body.rule, "hosts")
    return await turn.answered_at_length(who, lambda: rules.suggest(body.model_copy(update={"rule": rule})))


@router.post("/rules/check", tags=["rules"])
def check_rules(rules: RulesHere, _who: Viewer, body: RulesChecked) -> Page[RuleProblem]:
    """What is wrong with rules, looked at together, without keeping them."""
    return Page[RuleProblem](items=rules.check_all(body.rules))


@router.post("/rules/read", tags=["rules"])
def read_rule_text(rules: RulesHere, _who: Viewer, body: RuleText) -> RuleRead:
    """A rule from its text, or what is wrong with it, by line and column; nothing is kept."""
    return read_text(body.text, rules)


@router.post("/rules/written", tags=["rules"])
def write_rule_text(_who: Viewer, body: RuleDocument) -> RuleText:
    """A rule as a file has it."""
    return RuleText(text=rule_text(body.rule or "", body))


@router.get("/rules/{name}", tags=["rules"])
def read_rule(rules: RulesHere, _who: Viewer, name: str) -> Rule:
    return rules.get(name)


@router.put("/rules/{name}", tags=["rules"])
def put_rule(rules: RulesHere, filters: FiltersHere, who: Operator, name: Name, body: RuleChange) -> Rule:
    """Keeps a rule; `why` is kept with the version."""
    return rules.put(name, filters.put_in(body, "hosts").alone(), who.name, why=body.why)


@router.delete("/rules/{name}", tags=["rules"])
def delete_rule(rules: RulesHere, who: Operator, name: str) -> Note:
    rules.delete(name, who.name)
    return Note(detail=f"rule {name} deleted; its open alerts are ended")


@router.get("/rules/{name}/versions", tags=["rules"])
def list_versions(rules: RulesHere, _who: Viewer, name: str) -> Page[RuleVersion]:
    """Every form that a rule had: who made it, when, why, and what differs; the newest first."""
    return Page[RuleVersion](items=rules.versions(name))


@router.post("/rules/{name}/restore", tags=["rules"])
def restore_version(rules: RulesHere, who: Operator, name: Name, body: Restore) -> Rule:
    """Puts a rule to work as it was, also one that was deleted."""
    return rules.restore(name, body.version, who.name)


@router.get("/hosts/{name}/rules", tags=["rules"])
def rules_of_host(tuning: TuningHere, _who: Viewer, name: str) -> Page[HostRule]:
    """Every rule that watches a host, where its limits come from, and how far it is from breach; the nearest first."""
    return Page[HostRule](items=tuning.of_host(name))


@router.post("/alerts/{number}/tune", tags=["rules"], response_model=Tuned)
async def tune(tuning: TuningHere, turn: Turn, who: Operator, number: Number, body: Tune) -> Response:
    """Other limits for the alert's host, its group or everybody, with what that would have changed."""
    return await turn.answered(who, lambda: tuning.tune(number, body, who.name))


@router.post("/metrics/baseline", tags=["metrics"], response_model=BaselineAnswer)
async def baseline(
    foresight: ForesightHere, filters: FiltersHere, turn: Turn, who: Viewer, body: BaselineQuery
) -> Response:
    """What is usual of a metric at each hour of the span, learned from the same hours of the weeks before."""
    return await turn.answered(who, lambda: foresight.baseline(filters.applied(body)))


@router.post("/metrics/forecast", tags=["metrics"], response_model=ForecastAnswer)
async def forecast(
    foresight: ForesightHere, filters: FiltersHere, turn: Turn, who: Viewer, body: ForecastQuery
) -> Response:
    """When a metric gets to a value, by a robust trend; those that get there first come first."""
    return await turn.answered_at_length(who, lambda: foresight.forecast(filters.applied(body)))
