"""What an agent and the console say to each other besides OTLP."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, Field

from balise.api.hosts import Facts


class EnrolRequest(BaseModel):
    key: Annotated[str, Field(max_length=200)]
    facts: Facts


class EnrolAnswer(BaseModel):
    host: str
    host_id: int
    token: str
    every_seconds: int


class FactsChange(BaseModel):
    facts: Facts
