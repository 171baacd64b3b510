"""Numbers that a console or a host tells of itself, as people say them."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from balise.cli.output import local_time
from balise.core.quantities import in_words

_UNITS = {
    "uptime_seconds": "s", "last_tick_seconds": "s", "memory": "By", "state": "By", "series": "By", "events": "By",
    "free": "By", "growth": "By", "points_per_second": "{point}/s", "events_per_second": "{event}/s", "cpu": "{core}",
    "keeps_raw_days": "{day}", "keeps_5m_days": "{day}", "keeps_1h_days": "{day}", "keeps_events_days": "{day}",
}  # fmt: skip
"""What the numbers that a console or a host tells of itself are measured in."""


def said(name: str, value: Any) -> Any:
    """A number as people say it, anything else as it is."""
    if name == "boot_time" and isinstance(value, int | float):
        return local_time(datetime.fromtimestamp(value, UTC).isoformat())
    unit = _UNITS.get(name)
    return in_words(float(value), unit) if unit and isinstance(value, int | float) else value
