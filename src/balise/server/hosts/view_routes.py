"""Saved views of the fleet."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path

from balise.api.hosts import View, ViewBody
from balise.api.lists import Note, Page
from balise.api.spans import Name
from balise.server.callers import Operator, Viewer, part
from balise.server.filters.book import FilterBook
from balise.server.hosts.views import ViewBook

router = APIRouter(prefix="/views", tags=["views"])
FiltersHere = Annotated[FilterBook, part(FilterBook)]
ViewsHere = Annotated[ViewBook, part(ViewBook)]


@router.get("")
def list_views(views: ViewsHere, _who: Viewer) -> Page[View]:
    return Page[View](items=views.all())


@router.put("/{name}")
def put_view(
    views: ViewsHere, filters: FiltersHere, who: Operator, name: Annotated[Name, Path()], body: ViewBody
) -> View:
    return views.put(name, filters.put_in(body), who.name)


@router.delete("/{name}")
def delete_view(views: ViewsHere, _who: Operator, name: str) -> Note:
    views.delete(name)
    return Note(detail=f"the view {name} is gone")
