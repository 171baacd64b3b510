"""Problem details for every error (RFC 9457)."""

from __future__ import annotations

from pydantic import BaseModel


class FieldProblem(BaseModel):
    """What is wrong with one field of a request, and what to write instead."""

    field: str
    detail: str


class Problem(BaseModel):
    """`application/problem+json`: `detail` says what to do."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str
    errors: list[FieldProblem] = []
