"""Filters that have a name, and what a filter means."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import BaseModel, Field

from balise.api.metrics import FilterText


class FilterBody(BaseModel):
    """A filter to be kept under a name."""

    where: Annotated[str, Field(min_length=1, max_length=2000, description="RFC 7644 section 3.4.2.2")]
    about: Annotated[str, Field(max_length=300)] = ""


class SavedFilter(FilterBody):
    name: str
    sentence: str = Field(description="what it says, in English")
    owner: str
    updated_at: str


class FilterQuestion(BaseModel):
    where: FilterText


class FilterProblem(BaseModel):
    """A slip: where it is, counted in characters from 1, and what could stand there."""

    at: int
    message: str
    expected: list[str]


class FilterExplained(BaseModel):
    """What a filter means. `tree` is `{"all": […]}`, `{"any": […]}`, `{"not": […]}` or a condition."""

    where: str
    sentence: str | None
    tree: dict[str, Any] | None
    problem: FilterProblem | None
