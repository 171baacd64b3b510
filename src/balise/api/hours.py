"""Hours of the week by the clock on a wall: when something is to be done, or is not."""

from __future__ import annotations

from datetime import time
from typing import Annotated, Literal
from zoneinfo import ZoneInfo

from pydantic import AfterValidator, Field

from balise.api.strict import Strict

Day = Literal["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
DAYS: tuple[Day, ...] = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")


def _checked_zone(name: str) -> str:
    zone_of(name)
    return name


def _checked_time(text: str) -> str:
    time_of(text)
    return text


def zone_of(name: str) -> ZoneInfo:
    """A time zone by its name in the IANA database, such as `Europe/Oslo`; ValueError when there is none."""
    try:
        return ZoneInfo(name)
    except (OSError, ValueError, KeyError):
        raise ValueError(f"there is no time zone {name[:40]!r}: write one such as Europe/Oslo or UTC") from None


def time_of(text: str) -> time:
    """`time_of("08:30")`; ValueError when that is no time of a day."""
    try:
        if len(text) != 5:
            raise ValueError
        return time.fromisoformat(text)
    except ValueError:
        raise ValueError(f"{text[:20]!r} is no time of a day: write it as 08:30") from None


Zone = Annotated[str, Field(max_length=64), AfterValidator(_checked_zone)]
TimeOfDay = Annotated[str, AfterValidator(_checked_time)]


class Hours(Strict):
    """From one time of the day to another, on some days of the week. Hours that pass midnight belong to the day on
    which they begin; from a time to the same time is a whole day."""

    days: Annotated[list[Day], Field(min_length=1, max_length=7)] = list(DAYS)
    from_: Annotated[TimeOfDay, Field(alias="from")]
    to: TimeOfDay
    zone: Zone
