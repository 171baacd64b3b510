"""What processes, programs and users took of a host over a span."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field

ProcessOrder = Literal["cpu", "memory", "io"]
ProcessOf = Literal["process", "program", "user"]


class ProcessSpan(BaseModel):
    """Of a process, of all processes of a program, or of all of a user.

    What is told comes from looks at the busiest alone: one that was idle is not there, and what it did meanwhile is not
    counted. `started_at` and `ended_at` are RFC 3339, null where nobody knows.
    """

    pid: int | None = None
    parent: int | None = None
    program: str
    user: str
    command: str = ""
    service: str | None = Field(default=None, description="the service on this host that it belongs to")
    started_at: str | None
    ended_at: str | None
    cpu_seconds: float = Field(description="of processor time; of two cores that were busy all the time, two a second")
    cpu_peak: float = Field(description="cores at the busiest look")
    memory_peak: float = Field(description="bytes")
    io_bytes: float | None = Field(description="read from and written to storage; null where that may not be known")
    looks: int = Field(description="in how many looks it was among the busiest")


class ProcessSpans(BaseModel):
    items: list[ProcessSpan]
    looked: int = Field(description="looks at the host that were counted")
    measured: bool = Field(default=False, description="processor time and memory are from series, of every turn")
