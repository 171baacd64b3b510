"""Values with their units, as people say them. Units are UCUM."""

from __future__ import annotations

import math
import re

STATE = "{state}"
"""The unit of numbers that stand for states: 1 for up, 0 for down."""
_ANNOTATION = re.compile(r"\{(\w+)\}")


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
    many = r"\1" if abs(value) == 1 else r"\1s"
    return f"{value:.4g} {_ANNOTATION.sub(many, unit)}".strip()


def _bytes(value: float, end: str) -> str:
    for name in ("B", "KiB", "MiB", "GiB"):
        if abs(value) < 1024:
            return f"{value:.4g} {name}{end}"
        value /= 1024
    return f"{value:.4g} TiB{end}"
