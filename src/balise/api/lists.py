"""The shape of every list answer."""

from __future__ import annotations

from typing import Generic, TypeVar

from pydantic import BaseModel

T = TypeVar("T")


class Page(BaseModel, Generic[T]):
    """`next` is the cursor of the following page, or null on the last."""

    items: list[T]
    next: str | None = None


class Note(BaseModel):
    """An answer that only says what was done."""

    detail: str
