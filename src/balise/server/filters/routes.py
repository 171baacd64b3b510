"""Filters: what they mean, and those that have a name."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path

from balise.api.filters import FilterBody, FilterExplained, FilterQuestion, SavedFilter
from balise.api.lists import Note, Page
from balise.api.spans import Name
from balise.server.callers import Operator, Viewer, part
from balise.server.filters.book import FilterBook, explained

router = APIRouter(prefix="/filters", tags=["filters"])
FiltersHere = Annotated[FilterBook, part(FilterBook)]
FilterName = Annotated[Name, Path()]


@router.get("")
def list_filters(filters: FiltersHere, _who: Viewer) -> Page[SavedFilter]:
    return Page[SavedFilter](items=filters.all())


@router.post("/explain")
def explain_filter(_who: Viewer, body: FilterQuestion) -> FilterExplained:
    """A filter as a sentence and as a tree; where its slip is, and what could stand there."""
    return explained(body.where)


@router.get("/{name}")
def read_filter(filters: FiltersHere, _who: Viewer, name: FilterName) -> SavedFilter:
    return filters.get(name)


@router.put("/{name}")
def put_filter(filters: FiltersHere, who: Operator, name: FilterName, body: FilterBody) -> SavedFilter:
    """Keeps a filter under a name, to be used wherever a filter can be."""
    return filters.put(name, body, who)


@router.delete("/{name}")
def delete_filter(filters: FiltersHere, who: Operator, name: FilterName) -> Note:
    filters.delete(name, who)
    return Note(detail=f"filter {name} deleted")
