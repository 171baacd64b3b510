"""Values with their units, as people say them. Units are UCUM."""

from __future__ import annotations

import math
import re

STATE = "{state}"
"""The unit of numbers that stand for states: 1 for up, 0 for down."""
LONG_SECONDS = 120
"""From how many seconds on a duration is said in larger units."""
_ANNOTATION = re.compile(r"\{(\w+)\}")
_WHOLE = re.compile(r"\{\w+\}")
"""Units of things that are whole: a mean of them is said as a whole number too."""
FINE = ("core", "day")
"""Of which there are parts."""
MILLION = 1e6


def in_words(value: float | None, unit: str) -> str:
    """`in_words(0.953, "1") == "95.3 %"`, `in_words(14, "{session}") == "14 sessions"`, empty for no number."""
    if value is None or not math.isfinite(value):
        return ""
    if unit == STATE:
        return f"{value:g}"
    if unit == "1":
        return f"{value * 100:.1f} %"
    if unit in ("By", "By/s"):
        return _bytes(value, "/s" if unit.endswith("/s") else "")
    if unit == "s" and abs(value) >= LONG_SECONDS:
        return _duration(value)
    if _WHOLE.fullmatch(unit):
        return _count(value, unit[1:-1])
    told = _ANNOTATION.sub(lambda held: held[1] if abs(value) == 1 else _plural(held[1]), unit)
    return f"{value:.4g} {told}".strip()


def _count(value: float, noun: str) -> str:
    """`_count(20.5, "session") == "20 sessions"`, `_count(0.2, "session") == "under 1 session"`."""
    if noun in FINE:
        return f"{value:.4g} {noun if abs(value) == 1 else _plural(noun)}"
    if abs(value) >= MILLION:
        return f"{value / MILLION:.4g} M {_plural(noun)}"
    if 0 < abs(value) < 0.5:
        return f"under 1 {noun}"
    whole = round(value)
    return f"{whole} {noun if abs(whole) == 1 else _plural(noun)}"


def _plural(noun: str) -> str:
    """`_plural("process") == "processes"`, `_plural("entry") == "entries"`."""
    if noun.endswith(("s", "x", "ch")):
        return f"{noun}es"
    return f"{noun[:-1]}ies" if noun.endswith("y") and noun[-2:-1] not in tuple("aeiou") else f"{noun}s"


def _duration(value: float) -> str:
    """The two largest units: `_duration(1_210_000) == "14 d"`, `_duration(5400) == "1 h 30 min"`."""
    sign, left = "-" if value < 0 else "", round(abs(value))
    for size, name, small, smaller in ((86_400, "d", 3600, "h"), (3600, "h", 60, "min"), (60, "min", 1, "s")):
        if left >= size:
            rest = left % size // small
            return f"{sign}{left // size} {name}" + (f" {rest} {smaller}" if rest else "")
    return f"{sign}{left} s"


def _bytes(value: float, end: str) -> str:
    for name in ("B", "KiB", "MiB", "GiB"):
        if abs(value) < 1024:
            return f"{value:.4g} {name}{end}"
        value /= 1024
    return f"{value:.4g} TiB{end}"
