"""Kits: looking, checking, keeping, choosing a version, and trying one once."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Query

from balise.api.kits import Kit, KitChange, KitCheck, KitDocument, KitText, KitTrial, KitWhole, Tried
from balise.api.lists import Page
from balise.server.callers import Administrator, ConsoleHere, Operator, Viewer, tried_in_turn

router = APIRouter(prefix="/kits", tags=["kits"])
Version = Annotated[str, Query(max_length=20)]


@router.get("")
def list_kits(console: ConsoleHere, _who: Viewer) -> Page[Kit]:
    return Page[Kit](items=console.kits.all())


@router.get("/schema")
def read_schema(_who: Viewer) -> dict[str, Any]:
    """The JSON Schema of a kit."""
    return KitDocument.model_json_schema(by_alias=True)


@router.post("/check")
def check_kit(console: ConsoleHere, _who: Viewer, body: KitText) -> KitCheck:
    """Whether a text is a good kit; what is wrong with it has its line and column."""
    return console.kits.check(body.text)


@router.get("/problems")
def list_problems(console: ConsoleHere, _who: Viewer) -> Page[KitCheck]:
    """Kits in the folder that are not taken up, and why."""
    return Page[KitCheck](items=console.kits.problems)


@router.get("/{name}")
def read_kit(console: ConsoleHere, _who: Viewer, name: str) -> KitWhole:
    return console.kits.get(name)


@router.put("")
def put_kit(console: ConsoleHere, who: Administrator, body: KitText) -> KitWhole:
    """Keeps a kit as written: a new one, or another version."""
    return console.kits.put(body.text, who.name)


@router.get("/{name}/changes")
def read_changes(console: ConsoleHere, _who: Viewer, name: str, to: Version) -> Page[KitChange]:
    """What choosing another version of a kit would change."""
    return Page[KitChange](items=console.kits.differences(name, to))


@router.put("/{name}/version")
def choose_version(console: ConsoleHere, who: Administrator, name: str, to: Version) -> KitWhole:
    """From now on services are read with this version, a newer one or an older; nothing of their history is lost."""
    return console.kits.choose(name, to, who.name)


@router.post("/{name}/try")
async def try_kit(console: ConsoleHere, who: Operator, name: str, body: KitTrial) -> Tried:
    """Reads a target once from the console, and says what came of it and how long each part took."""
    return await tried_in_turn(console, who, lambda: console.try_kit(name, body, who))
