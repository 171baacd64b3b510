"""Rules: looking, keeping, rehearsing."""

from __future__ import annotations

from fastapi import APIRouter, Response

from balise.api.lists import Note, Page
from balise.api.rules import Rehearsal, Rehearse, Rule, RuleBody
from balise.api.spans import Name
from balise.server.callers import ConsoleHere, Operator, Viewer, in_turn

router = APIRouter()


@router.get("/rules", tags=["rules"])
def list_rules(console: ConsoleHere, _who: Viewer) -> Page[Rule]:
    return Page[Rule](items=console.rules.all())


@router.post("/rules/rehearse", tags=["rules"], response_model=Rehearsal)
async def rehearse_rule(console: ConsoleHere, who: Viewer, body: Rehearse) -> Response:
    return await in_turn(console, who, lambda: console.rules.rehearse(body))


@router.get("/rules/{name}", tags=["rules"])
def read_rule(console: ConsoleHere, _who: Viewer, name: str) -> Rule:
    return console.rules.get(name)


@router.put("/rules/{name}", tags=["rules"])
def put_rule(console: ConsoleHere, who: Operator, name: Name, body: RuleBody) -> Rule:
    return console.rules.put(name, body, who.name)


@router.delete("/rules/{name}", tags=["rules"])
def delete_rule(console: ConsoleHere, who: Operator, name: str) -> Note:
    console.rules.delete(name, who.name)
    return Note(detail=f"rule {name} deleted; its open alerts are ended")
