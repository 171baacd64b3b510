"""How long things are kept."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field, model_validator

Days = Annotated[float, Field(ge=0.25, le=3650)]


class Keeping(BaseModel):
    """Days after which things are forgotten: points as they came and summed up in steps, events with evidence, alerts
    that are over, and the audit log."""

    model_config = ConfigDict(extra="forbid")
    raw: Days = 14.0
    five_minutes: Days = 90.0
    hour: Days = 730.0
    events: Days = 30.0
    alerts: Days = 400.0
    audit: Annotated[float, Field(ge=30, le=3650)] = 800.0

    @model_validator(mode="after")
    def _sums_stay_longer(self) -> Keeping:
        if not self.raw <= self.five_minutes <= self.hour:
            raise ValueError("hour: what is summed up stays at least as long: raw <= five_minutes <= hour")
        return self
