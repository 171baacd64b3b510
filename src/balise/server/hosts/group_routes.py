"""Groups and sites."""

from __future__ import annotations

import time
from typing import Annotated

from fastapi import APIRouter, Path

from balise.api.hosts import Group, GroupBody, GroupMatch, GroupPreview
from balise.api.lists import Note, Page
from balise.api.spans import Instant, Name
from balise.server.asking import span_of
from balise.server.callers import Operator, Viewer, part
from balise.server.filters.book import FilterBook
from balise.server.hosts.groups import GroupBook
from balise.server.hosts.routes import From

router = APIRouter(tags=["groups"])
FiltersHere = Annotated[FilterBook, part(FilterBook)]
GroupsHere = Annotated[GroupBook, part(GroupBook)]


@router.get("/groups")
def list_groups(groups: GroupsHere, _who: Viewer, from_: From = "-24h", to: Instant = "now") -> Page[Group]:
    """Every group with its hosts' states now, and its own over the span."""
    return Page[Group](items=groups.all(*span_of(from_, to, time.time())))


@router.post("/groups/preview")
def preview_group(groups: GroupsHere, _who: Viewer, body: GroupPreview) -> GroupMatch:
    """What a filter would choose now."""
    return groups.preview(body.where)


@router.get("/groups/{name}")
def read_group(groups: GroupsHere, _who: Viewer, name: str, from_: From = "-24h", to: Instant = "now") -> Group:
    return groups.get(name, *span_of(from_, to, time.time()))


@router.put("/groups/{name}")
def put_group(
    groups: GroupsHere, filters: FiltersHere, who: Operator, name: Annotated[Name, Path()], body: GroupBody
) -> Group:
    groups.put(name, filters.put_in(body), who.name)
    return groups.get(name, *span_of("-24h", "now", time.time()))


@router.delete("/groups/{name}")
def delete_group(groups: GroupsHere, who: Operator, name: str) -> Note:
    groups.delete(name, who.name)
    return Note(detail=f"the group {name} is gone; its hosts stay")
