"""Instants and durations as people write them: `-15m`, `now`, RFC 3339; `30s`, `5m`, `2h`, `7d`."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from typing import Annotated

from pydantic import AfterValidator, Field

SECONDS_OF = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3600.0, "d": 86400.0, "w": 604800.0}
_DURATION = re.compile(r"(\d{1,9}(?:\.\d{1,3})?)\s*(ms|s|m|h|d|w)")
_RELATIVE = re.compile(r"([-+])\s*(.+)")


def seconds(duration: str) -> float:
    """`seconds("5m") == 300.0`; a bare number is refused because its unit would be a guess."""
    match = _DURATION.fullmatch(duration.strip())
    if not match:
        raise ValueError(f"{duration[:40]!r} is not a duration: write a number and a unit, such as 30s, 5m, 2h or 7d")
    return float(match[1]) * SECONDS_OF[match[2]]


def duration_text(length: float) -> str:
    """`duration_text(300.0) == "5m"`: in the largest unit that leaves a whole number, else in milliseconds."""
    for unit in ("w", "d", "h", "m", "s"):
        count = length / SECONDS_OF[unit]
        if count >= 1 and count == int(count):
            return f"{int(count)}{unit}"
    return f"{round(length * 1000)}ms"


def instant(text: str, now: float) -> float:
    """Unix seconds for `now`, `-15m`, `+1h` or an RFC 3339 time with its offset."""
    text = text.strip()
    if text == "now":
        return now
    relative = _RELATIVE.fullmatch(text)
    if relative:
        offset = seconds(relative[2])
        return now - offset if relative[1] == "-" else now + offset
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        moment = None
    if moment is None or moment.tzinfo is None:
        raise ValueError(
            f"{text[:40]!r} is not a time: write now, -15m, -7d or an RFC 3339 time such as 2026-11-23T03:07:00Z"
        )
    return moment.timestamp()


def rfc3339(unix_seconds: float) -> str:
    """`rfc3339(0.25) == "1970-01-01T00:00:00.250Z"`: UTC with milliseconds."""
    moment = datetime.fromtimestamp(unix_seconds, UTC)
    return moment.strftime("%Y-%m-%dT%H:%M:%S.") + f"{moment.microsecond // 1000:03d}Z"


def _checked_duration(text: str) -> str:
    seconds(text)
    return text


def _checked_instant(text: str) -> str:
    instant(text, 0.0)
    return text


Duration = Annotated[str, Field(max_length=20, examples=["5m"]), AfterValidator(_checked_duration)]
Instant = Annotated[str, Field(max_length=40, examples=["-15m"]), AfterValidator(_checked_instant)]
Name = Annotated[
    str,
    Field(
        pattern=r"^[A-Za-z0-9][A-Za-z0-9 ._:-]{0,99}$",
        description="letters, digits, space and . _ : -, at most 100 characters",
    ),
]
"""A name people give: it becomes part of an address, so its alphabet is small."""
