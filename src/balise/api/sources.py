"""Sources: every place that lines come from, and how it goes there."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, Field

SourceState = Literal[
    "following", "empty", "nothing-matches", "unreadable", "directory", "binary", "held-back", "stopped"
]
SourceKind = Literal["file", "journal", "receiver", "otlp", "channel"]
LogPath = Annotated[str, Field(min_length=2, max_length=400, pattern=r"^/[^\x00-\x1f]*$")]
MOST_TRIED_LINES, LONGEST_TRIED = 50, 2000


class Source(BaseModel):
    """One place that lines come from. Counts are since its collector began; rates are of the last minute."""

    host: str
    kind: SourceKind
    name: str = Field(description="the path, the receiver, the channel")
    state: SourceState
    message: str
    near: list[str] = Field(default=[], description="names that exist and are nearly the one that does not")
    last_line_at: str | None
    lines: int
    lines_per_minute: float | None = None
    bytes_per_minute: float | None = None
    behind: int = Field(default=0, description="bytes that are still to be read")
    dropped: int = 0
    by: str = Field(default="", description="who reads it: the agent, or whoever collects from afar")


class PathQuestion(BaseModel):
    """A path on a host; it may be a pattern with *, ?, [ ] and **."""

    path: LogPath


class PathTried(BaseModel):
    """What was found at a path just now: its last lines, or why there are none."""

    state: SourceState
    message: str
    near: list[str] = []
    lines: Annotated[list[Annotated[str, Field(max_length=4000)]], Field(max_length=200)] = []


class PathAsk(BaseModel):
    """A question to an agent; the number tells its answer from others."""

    id: int
    path: LogPath


class PathAnswer(BaseModel):
    """An agent's answer."""

    id: int
    tried: PathTried
