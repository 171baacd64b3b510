"""What is on a host, and how it differs from before, from another host, or from what is usual."""

from __future__ import annotations

from typing import Annotated, Any, Literal, get_args

from pydantic import BaseModel, ConfigDict, Field

InventoryKind = Literal[
    "packages",
    "accounts",
    "groups",
    "ports",
    "units",
    "schedules",
    "volumes",
    "interfaces",
    "routes",
    "certificates",
    "boot",
    "configuration",
]
KINDS: tuple[InventoryKind, ...] = get_args(InventoryKind)
MOST_ITEMS = 20_000
EVENT = "balise.inventory"


class CollectedInventory(BaseModel):
    """One kind as a collector found it. `scope` is the service that it is of, if it is not the host's own."""

    model_config = ConfigDict(extra="ignore")
    kind: InventoryKind
    scope: Annotated[str, Field(max_length=100)] = ""
    items: Annotated[list[dict[str, Any]], Field(max_length=MOST_ITEMS)] = []
    problem: Annotated[str, Field(max_length=500)] = ""


class InventoryItem(BaseModel):
    """One thing. `since` is when it was first seen as it is."""

    model_config = ConfigDict(extra="allow")
    name: str
    kind: InventoryKind
    scope: str
    since: str | None


class Inventory(BaseModel):
    """A kind of inventory at a moment."""

    kind: InventoryKind | None
    at: str | None = Field(description="when it was last collected before that moment")
    problem: str
    items: list[InventoryItem]
    total: int


class InventoryCount(BaseModel):
    kind: InventoryKind
    items: int
    at: str | None
    problem: str
    changed: int = Field(description="differences found in the last seven days")


class Difference(BaseModel):
    """One thing that is other here than there."""

    kind: InventoryKind
    name: str
    here: str | None
    there: str | None


class Comparison(BaseModel):
    """A host beside another, beside its group's most common values, or beside itself at an earlier time."""

    here: str
    there: str
    items: list[Difference]
    same: int
    left_out: int
