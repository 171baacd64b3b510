"""Instants and durations as people write them: `-15m`, `now`, RFC 3339; `30s`, `5m`, `2h`, `7d`."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from typing import Annotated

from pydantic import AfterValidator, Field

SECONDS_OF = {"ms": 0.001, "s": 1.0, "m": 60.0, "h": 3600.0, "d": 86400.0, "w": 604800.0}
LONGEST = 36_525 * 86_400.0
"""Seconds of the longest duration: a hundred years."""
_FIRST, _LAST = -62_135_596_800.0, 253_402_300_799.0
"""The first second of the year 1 and the last of 9999, beyond which there is no date."""
_DURATION = re.compile(r"(\d{1,9}(?:\.\d{1,3})?)\s*(ms|s|m|h|d|w)")
_RELATIVE = re.compile(r"([-+])\s*(.+)")


def seconds(duration: str) -> float:
    """`seconds("5m") == 300.0`; a bare number is refused because its unit would be a guess."""
    match = _DURATION.fullmatch(duration.strip())
    if not match:
        raise ValueError(f"{duration[:40]!r} is not a duration: write a number and a unit, such as 30s, 5m, 2h or 7d")
    length = float(match[1]) * SECONDS_OF[match[2]]
    if length > LONGEST:
        raise ValueError(f"{duration[:40]!r} is longer than a hundred years")
    return length


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
        at = moment.timestamp() if moment.tzinfo is not None else None
    except (ValueError, OverflowError):
        at = None
    if at is None:
        raise ValueError(
            f"{text[:40]!r} is not a time: write now, -15m, -7d or an RFC 3339 time such as 2026-11-23T03:07:00Z"
        )
    return at


def rfc3339(unix_seconds: float) -> str:
    """`rfc3339(0.25) == "1970-01-01T00:00:00.250Z"`: UTC, milliseconds; years 1 to 9999."""
    moment = datetime.fromtimestamp(min(max(unix_seconds, _FIRST), _LAST), UTC)
    return moment.strftime("%Y-%m-%dT%H:%M:%S.") + f"{moment.microsecond // 1000:03d}Z"


def _checked_duration(text: str) -> str:
    seconds(text)
    return text


def _checked_instant(text: str) -> str:
    instant(text, 0.0)
    return text


def shift_seconds(text: str) -> float:
    """`shift_seconds("-1d") == -86400.0`: by how much something is moved in time, back or ahead."""
    relative = _RELATIVE.fullmatch(text.strip())
    if not relative:
        raise ValueError(f"{text[:40]!r} is not a shift: write - and a duration, such as -1d or -1w")
    return seconds(relative[2]) * (-1 if relative[1] == "-" else 1)


def _checked_shift(text: str) -> str:
    shift_seconds(text)
    return text


Duration = Annotated[str, Field(max_length=20, examples=["5m"]), AfterValidator(_checked_duration)]
Shift = Annotated[str, Field(max_length=20, examples=["-1d"]), AfterValidator(_checked_shift)]
Instant = Annotated[str, Field(max_length=40, examples=["-15m"]), AfterValidator(_checked_instant)]
Name = Annotated[
    str,
    Field(
        pattern=r"^[A-Za-z0-9][A-Za-z0-9 ._:-]{0,99}$",
        description="letters, digits, space and . _ : -, at most 100 characters",
    ),
]
"""A name people give: it becomes part of an address, so its alphabet is small."""
