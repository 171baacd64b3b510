"""The fleet as a tree, from sites, groups, applications or a label down to hosts."""

from __future__ import annotations

from typing import Literal, get_args

from pydantic import BaseModel, Field

from balise.api.hosts import State

Facet = Literal["hardware", "system", "storage", "network", "services", "events"]
FACETS: tuple[Facet, ...] = get_args(Facet)
NodeKind = Literal["site", "group", "application", "label", "host"]


class TreeNode(BaseModel):
    """`why` says in words what makes its state; `facets` which layers of its hosts are concerned."""

    node: str = Field(description="what `below` takes")
    kind: NodeKind
    name: str
    state: State
    why: str
    hosts: int
    counts: dict[State, int]
    facets: dict[Facet, State]
    below: bool = Field(description="whether there is anything below it")


class Tree(BaseModel):
    """The worst first."""

    items: list[TreeNode]
    left_out: int = Field(default=0, description="hosts beyond the limit of one answer")
