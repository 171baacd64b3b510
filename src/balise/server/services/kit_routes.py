"""Kits: looking, checking, keeping, choosing a version, and trying one once."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Query

from balise.api.kit_documents import Kit, KitChange, KitCheck, KitDocument, KitText, KitWhole
from balise.api.kits import KitTrial, Tried
from balise.api.lists import Page
from balise.core.kits.documents import changes, check_kit
from balise.server.callers import Administrator, Operator, Turn, Viewer, part
from balise.server.services.kits import KitBook
from balise.server.services.trials import KitTrials

router = APIRouter(prefix="/kits", tags=["kits"])
KitTrialsHere = Annotated[KitTrials, part(KitTrials)]
KitsHere = Annotated[KitBook, part(KitBook)]
Version = Annotated[str, Query(max_length=20)]


@router.get("")
def list_kits(kits: KitsHere, _who: Viewer) -> Page[Kit]:
    return Page[Kit](items=kits.all())


@router.get("/schema")
def read_schema(_who: Viewer) -> dict[str, Any]:
    """The JSON Schema of a kit."""
    return KitDocument.model_json_schema(by_alias=True)


@router.post("/check")
def check(_who: Viewer, body: KitText) -> KitCheck:
    """Whether a text is a good kit; what is wrong with it has its line and column."""
    return check_kit("", body.text)


@router.get("/problems")
def list_problems(kits: KitsHere, _who: Viewer) -> Page[KitCheck]:
    """Kits in the folder that are not taken up, and why."""
    return Page[KitCheck](items=kits.problems)


@router.get("/{name}")
def read_kit(kits: KitsHere, _who: Viewer, name: str) -> KitWhole:
    return kits.get(name)


@router.put("")
def put_kit(kits: KitsHere, who: Administrator, body: KitText) -> KitWhole:
    """Keeps a kit as written: a new one, or another version."""
    return kits.put(body.text, who.name)


@router.get("/{name}/changes")
def read_changes(kits: KitsHere, _who: Viewer, name: str, to: Version) -> Page[KitChange]:
    """What choosing another version of a kit would change."""
    return Page[KitChange](items=changes(kits.chosen(name), kits.version(name, to)))


@router.put("/{name}/version")
def choose_version(kits: KitsHere, who: Administrator, name: str, to: Version) -> KitWhole:
    """From now on services are read with this version, a newer one or an older; nothing of their history is lost."""
    return kits.choose(name, to, who.name)


@router.post("/{name}/try")
async def try_kit(kit_trials: KitTrialsHere, turn: Turn, who: Operator, name: str, body: KitTrial) -> Tried:
    """Reads a target once from the console, and says what came of it and how long each part took."""
    return await turn.tried(who, lambda: kit_trials.run(name, body, who))
