"""Probes."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path, Query

from balise.api.lists import Note, Page
from balise.api.probes import Probe, ProbeBody, ProbeResult
from balise.api.spans import Name
from balise.server.callers import Operator, Turn, Viewer, part
from balise.server.probes.book import ProbeBook

router = APIRouter(prefix="/probes", tags=["probes"])
ProbesHere = Annotated[ProbeBook, part(ProbeBook)]
ProbeName = Annotated[Name, Path()]


@router.get("")
def list_probes(
    probes: ProbesHere, _who: Viewer, host: Annotated[str | None, Query(max_length=100)] = None
) -> Page[Probe]:
    return Page[Probe](items=probes.all(host))


@router.get("/{name}")
def read_probe(probes: ProbesHere, _who: Viewer, name: ProbeName) -> Probe:
    return probes.get(name)


@router.put("/{name}")
def put_probe(probes: ProbesHere, who: Operator, name: ProbeName, body: ProbeBody) -> Probe:
    """Keeps a probe, new or changed; it is made at once."""
    return probes.put(name, body, who)


@router.delete("/{name}")
def delete_probe(probes: ProbesHere, who: Operator, name: ProbeName) -> Note:
    probes.delete(name, who.name)
    return Note(detail=f"the probe {name} is made no more; its series stay until they are forgotten")


@router.post("/{name}/try")
async def try_probe(probes: ProbesHere, turn: Turn, who: Operator, name: ProbeName, body: ProbeBody) -> ProbeResult:
    """Makes a probe once from the console, without keeping it."""
    return await turn.tried(who, lambda: probes.once(name, body, who))
