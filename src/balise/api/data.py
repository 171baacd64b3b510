"""Everything that a console keeps: how large it is and will be, copies of it, and exports."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from balise.api.spans import Duration, Instant, Name, instant, seconds

Kind = Literal["points", "rollups", "waiting", "events", "words", "state", "free"]
What = Literal["points", "rollups", "events"]


class DataSize(BaseModel):
    """`per_day` is what the last whole day took, and `days` how long it stays."""

    kind: Kind
    bytes: int
    per_day: float | None = None
    days: float | None = None


class DataForecast(BaseModel):
    """How large everything will be, if each day is like the last whole one."""

    in_days: int
    bytes: int


class DataJob(BaseModel):
    """A backup or an export at work. `done` of `of` are bytes of a backup, and days of an export."""

    kind: Literal["backup", "export"]
    name: str
    began_at: str
    at_hand: str = ""
    done: int = 0
    of: int = 0


class Backup(BaseModel):
    """A copy of everything as of one moment. `at` is missing of one that was broken off: begun again, it goes on."""

    name: str
    state: Literal["whole", "under way", "broken off"]
    at: str | None
    bytes: int
    files: int
    version: str
    said: str = Field(default="", description="why it was broken off, if that is known")


class DataAnswer(BaseModel):
    """What everything takes. `full_in_days` and the forecast are none as long as nothing is known of a whole day."""

    bytes: int
    sizes: list[DataSize]
    free_bytes: int
    growth_bytes_per_day: float | None
    full_in_days: float | None
    forecast: list[DataForecast]
    backups_in: str
    backups: list[Backup]
    exports_in: str
    jobs: list[DataJob]


class NewBackup(BaseModel):
    """`name` is the folder's, below where backups are; the moment, unless given."""

    model_config = ConfigDict(extra="forbid")
    name: Name | None = None


class ExportBody(BaseModel):
    """What is written as Parquet. With `follow` what comes is added, `every` so often; else it is done once."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)
    what: Annotated[list[What], Field(min_length=1, max_length=3)] = ["points", "rollups", "events"]
    from_: Instant | None = Field(default=None, alias="from")
    until: Instant | None = None
    follow: bool = False
    every: Duration = "1h"

    @model_validator(mode="after")
    def _in_order(self) -> ExportBody:
        if not 60 <= seconds(self.every) <= 7 * 86_400:
            raise ValueError("every: between 1m and 7d")
        if self.from_ and self.until and instant(self.from_, 0.0) >= instant(self.until, 0.0):
            raise ValueError("until: it is not after from")
        return self


class Export(ExportBody):
    """An export, and what of it is there. `to` is its folder on the console's machine."""

    name: str
    to: str
    state: Literal["waiting", "under way", "following", "ended", "failing"]
    rows: int
    bytes: int
    days: int = Field(description="days of kinds that are there whole")
    written_at: str | None
    said: str = Field(default="", description="why it fails, if it does")
