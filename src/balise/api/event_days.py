"""Days of events: those that are here, and those that are set aside."""

from __future__ import annotations

from pydantic import BaseModel, Field


class DayCopy(BaseModel):
    """What was set aside of a day: its file as it was, packed."""

    events: int
    bytes: int
    packed_bytes: int
    digest: str = Field(description="SHA-256 of the file before it was packed, in hexadecimal")
    written_at: str


class EventDay(BaseModel):
    """A day, in UTC, of which there are events here, a copy, or both."""

    day: str
    here: bool
    events: int = Field(description="here; of a day that is only set aside, in the copy")
    bytes: int = Field(description="what it takes here")
    brought_back: bool = Field(description="kept until it is let go, however old it is")
    copy_: DayCopy | None = Field(default=None, alias="copy")

    model_config = {"populate_by_name": True}
