"""What the console says of itself."""

from __future__ import annotations

from typing import Literal

from pydantic import BaseModel


class Storage(BaseModel):
    """Sizes in bytes; `growth` in bytes a day, at the pace of the last hours, null until half an hour is known."""

    state: int
    series: int
    events: int
    free: int
    growth: float | None
    series_count: int
    samples_waiting: int
    keeps_raw_days: float
    keeps_5m_days: float
    keeps_1h_days: float
    keeps_events_days: float


class Figures(BaseModel):
    """The console's own figures; CPU in cores, memory in bytes, rates a second over the last minute."""

    uptime_seconds: float
    cpu: float
    memory: float
    points_per_second: float
    events_per_second: float
    hosts: int
    watched_groups: int
    last_tick_seconds: float
    counters: dict[str, int]
    storage: Storage


class Status(BaseModel):
    service: Literal["balise"] = "balise"
    version: str
    state: Literal["ready", "starting"]
    organisation: str = ""
    needs_first_user: bool = False
    warnings: list[str] = []
    figures: Figures | None = None
