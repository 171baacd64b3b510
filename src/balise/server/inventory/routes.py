"""The inventory of hosts."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query

from balise.api.hosts import NOBODYS
from balise.api.inventory import Comparison, Inventory, InventoryCount, InventoryKind
from balise.api.lists import Note, Page
from balise.server.callers import Operator, Viewer, part
from balise.server.errors import bad_field
from balise.server.hosts.book import HostBook
from balise.server.inventory.book import InventoryBook
from balise.server.plans.held import HeldPlans
from balise.server.remote.book import RemoteBook

router = APIRouter(prefix="/hosts/{name}/inventory", tags=["inventory"])
HostsHere = Annotated[HostBook, part(HostBook)]
InventoryHere = Annotated[InventoryBook, part(InventoryBook)]
PlansHere = Annotated[HeldPlans, part(HeldPlans)]
RemoteHere = Annotated[RemoteBook, part(RemoteBook)]
Moment = Annotated[str | None, Query(max_length=40)]


@router.get("")
def read_inventory(
    inventory: InventoryHere,
    _who: Viewer,
    name: str,
    kind: InventoryKind | None = None,
    at: Moment = None,
    text: Annotated[str | None, Query(max_length=200)] = None,
) -> Inventory:
    """What is on a host now, or at an earlier moment; `text` is part of a name."""
    return inventory.get(name, kind, at, text)


@router.get("/kinds")
def count_inventory(inventory: InventoryHere, _who: Viewer, name: str) -> Page[InventoryCount]:
    """How much of each kind there is, when it was looked at, and how much changed in the last seven days."""
    return Page[InventoryCount](items=inventory.counts(name))


@router.get("/compare")
def compare_inventory(
    inventory: InventoryHere,
    _who: Viewer,
    name: str,
    kind: InventoryKind | None = None,
    host: Annotated[str | None, Query(max_length=100)] = None,
    group: Annotated[str | None, Query(max_length=100)] = None,
    at: Moment = None,
) -> Comparison:
    """Beside another host, a group's most common values, or the same host at an earlier time."""
    return inventory.compare(name, kind, with_host=host, group=group, earlier=at)


@router.post("/refresh", status_code=202)
def refresh_inventory(hosts: HostsHere, plans: PlansHere, remote: RemoteHere, _who: Operator, name: str) -> Note:
    """Has the host's agent, or whoever reads the host over SSH, tell its inventory at once."""
    known = hosts.known(name)
    if known.mode in NOBODYS or (known.mode == "remote" and not remote.by_ssh(known)):
        raise bad_field("name", f"{name!r} has no agent and is not read over SSH: nobody could look at it")
    plans.refresh(known)
    return Note(detail=f"{name} was asked; what changed since the last collection follows as events")
