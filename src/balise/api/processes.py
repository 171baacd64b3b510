"""What was busy on a host over a span: processes, programs and users, sessions of its services, web requests."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel, Field

ProcessOrder = Literal["cpu", "memory", "io"]
ProcessOf = Literal["process", "program", "user"]
SessionOf = Literal["session", "user", "application", "client", "statement"]
RequestOf = Literal["path", "client", "status", "agent"]


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


class SessionSpan(BaseModel):
    """Of a session of a service, or of all with the same user, application, client or statement.

    Kept are sessions that work or stand in a chain of waiting, when that changes and every five minutes: what is over
    between two looks is not there. Texts are of the last that was seen; a statement is told without its values.
    """

    service: str
    session: str = Field(description="its own number; empty where several are added up")
    user: str
    application: str
    client: str
    statement: str
    state: str
    sessions: int = Field(description="how many different ones")
    seconds: float = Field(description="at work or waiting, of all together")
    waited_seconds: float = Field(description="of these, waiting for another session")
    held_seconds: float = Field(description="that others waited for it, all of them together")
    first_at: str
    last_at: str
    looks: int


class SessionSpans(BaseModel):
    items: list[SessionSpan]
    looked: int


class RequestSpan(BaseModel):
    """Requests that an access log told of, by what they have in common. Numbers in a path are told as `{n}`."""

    of: str
    requests: int
    refused: int = Field(description="answered with a status from 400 to 499")
    failed: int = Field(description="answered with a status of 500 or more")
    seconds: float | None = Field(description="of all together; null where the log does not tell it")
    longest_seconds: float | None
    clients: int
    first_at: str
    last_at: str
    slowest: str | None = Field(description="the event of the longest, or else of the last")


class RequestSpans(BaseModel):
    """Those that took the most time come first, or else the most frequent."""

    items: list[RequestSpan]
    looked: int
    left_out: bool = Field(description="whether there were more lines than are looked at; the newest are")
