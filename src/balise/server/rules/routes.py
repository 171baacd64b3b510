"""Rules: looking, keeping, rehearsing."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Response

from balise.api.lists import Note, Page
from balise.api.rules import Rehearsal, Rehearse, Rule, RuleBody
from balise.api.spans import Name
from balise.server.callers import Operator, Turn, Viewer, part
from balise.server.rules.book import RuleBook

router = APIRouter()
RulesHere = Annotated[RuleBook, part(RuleBook)]


@router.get("/rules", tags=["rules"])
def list_rules(rules: RulesHere, _who: Viewer) -> Page[Rule]:
    return Page[Rule](items=rules.all())


@router.post("/rules/rehearse", tags=["rules"], response_model=Rehearsal)
async def rehearse_rule(rules: RulesHere, turn: Turn, who: Viewer, body: Rehearse) -> Response:
    return await turn.answered(who, lambda: rules.rehearse(body))


@router.get("/rules/{name}", tags=["rules"])
def read_rule(rules: RulesHere, _who: Viewer, name: str) -> Rule:
    return rules.get(name)


@router.put("/rules/{name}", tags=["rules"])
def put_rule(rules: RulesHere, who: Operator, name: Name, body: RuleBody) -> Rule:
    return rules.put(name, body, who.name)


@router.delete("/rules/{name}", tags=["rules"])
def delete_rule(rules: RulesHere, who: Operator, name: str) -> Note:
    rules.delete(name, who.name)
    return Note(detail=f"rule {name} deleted; its open alerts are ended")
