"""Probes."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path, Query

from balise.api.lists import Note, Page
from balise.api.probes import Probe, ProbeBody, ProbeResult
from balise.api.spans import Name
from balise.server.callers import ConsoleHere, Operator, Viewer, tried_in_turn

router = APIRouter(prefix="/probes", tags=["probes"])
ProbeName = Annotated[Name, Path()]


@router.get("")
def list_probes(
    console: ConsoleHere, _who: Viewer, host: Annotated[str | None, Query(max_length=100)] = None
) -> Page[Probe]:
    return Page[Probe](items=console.probes.all(host))


@router.get("/{name}")
def read_probe(console: ConsoleHere, _who: Viewer, name: ProbeName) -> Probe:
    return console.probes.get(name)


@router.put("/{name}")
def put_probe(console: ConsoleHere, who: Operator, name: ProbeName, body: ProbeBody) -> Probe:
    """Keeps a probe, new or changed; it is made at once."""
    return console.probes.put(name, body, who)


@router.delete("/{name}")
def delete_probe(console: ConsoleHere, who: Operator, name: ProbeName) -> Note:
    console.probes.delete(name, who.name)
    return Note(detail=f"the probe {name} is made no more; its series stay until they are forgotten")


@router.post("/{name}/try")
async def try_probe(console: ConsoleHere, who: Operator, name: ProbeName, body: ProbeBody) -> ProbeResult:
    """Makes a probe once from the console, without keeping it."""
    return await tried_in_turn(console, who, lambda: console.probes.once(name, body, who))
