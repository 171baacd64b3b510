"""Plans, and what holds for a host."""

from __future__ import annotations

from dataclasses import asdict
from typing import Annotated, Any

from fastapi import APIRouter, Header, Path, Query, Response

from balise.api.lists import Note, Page
from balise.api.parts import PARTS, EffectivePlan, PartShown
from balise.api.plans import HostPlan, Plan, PlanCheck, PlanDiff, PlanDocument, PlanText
from balise.api.sources import PathAnswer
from balise.api.spans import Name
from balise.server.callers import Agent, Operator, Viewer, part, revealed
from balise.server.hosts.book import HostBook
from balise.server.plans.agents import AgentPlans
from balise.server.plans.asks import PathAsks
from balise.server.plans.book import PlanBook

router = APIRouter(tags=["plans"])
AgentPlansHere = Annotated[AgentPlans, part(AgentPlans)]
HostsHere = Annotated[HostBook, part(HostBook)]
PlansHere = Annotated[PlanBook, part(PlanBook)]


@router.get("/plans")
def list_plans(plans: PlansHere, _who: Viewer) -> Page[Plan]:
    """All plans, from the general to the particular."""
    return Page[Plan](items=plans.all())


@router.get("/plans/schema")
def read_schema(_who: Viewer) -> dict[str, Any]:
    """The JSON Schema of a plan."""
    return PlanDocument.model_json_schema(by_alias=True)


@router.get("/plans/parts")
def list_parts(_who: Viewer) -> Page[PartShown]:
    """The parts of a system that plans can switch, with what each costs; heavy ones are off until asked for."""
    return Page[PartShown](items=[PartShown(part=name, **asdict(about)) for name, about in PARTS.items()])


@router.post("/plans/check")
def check_plan(plans: PlansHere, _who: Viewer, body: PlanText) -> PlanCheck:
    """Whether a text is a good plan; what is wrong with it has its line and column."""
    return plans.check(body.text)


@router.post("/plans/diff")
def diff_plan(plans: PlansHere, _who: Viewer, body: PlanText) -> PlanDiff:
    """What keeping a text would change, host by host."""
    return plans.diff(body.text)


@router.get("/plans/{name}")
def read_plan(plans: PlansHere, _who: Viewer, name: str) -> Plan:
    return plans.get(name)


@router.put("/plans/{name}")
def put_plan(plans: PlansHere, who: Operator, name: Annotated[Name, Path()], body: PlanText) -> Plan:
    return plans.put(body.text, who.name, name)


@router.delete("/plans/{name}")
def delete_plan(plans: PlansHere, who: Operator, name: str) -> Note:
    plans.delete(name, who.name)
    return Note(detail=f"the plan {name} is gone; what it said no longer holds")


@router.get("/hosts/{name}/plan")
def read_host_plan(agent_plans: AgentPlansHere, hosts: HostsHere, _who: Viewer, name: str) -> HostPlan:
    """What holds for a host, each setting with the plan it came from."""
    return agent_plans.of_host(name, hosts.get(name).agent)


@router.post("/agents/paths")
def answer_path(asks: Annotated[PathAsks, part(PathAsks)], who: Agent, body: PathAnswer) -> Note:
    """What an agent found at a path that its plan asked it for."""
    asks.answered(who.host or 0, body)
    return Note(detail="heard")


@router.get("/agents/plan", response_model=EffectivePlan, responses={304: {"description": "as it was"}})
async def read_own_plan(
    agent_plans: AgentPlansHere,
    who: Agent,
    if_none_match: Annotated[str, Header(max_length=100)] = "",
    wait: Annotated[float, Query(ge=0, le=60)] = 0,
) -> Response:
    """An agent's plan, with what its services are read with; waits until it is another than that of the ETag."""
    plan = await agent_plans.wait_for(who.host or 0, if_none_match.strip('"'), wait)
    if plan is None:
        return Response(status_code=304)
    return revealed(plan, plan.etag)
