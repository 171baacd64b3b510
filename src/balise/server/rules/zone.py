"""Where the console is."""

from __future__ import annotations

import os
from datetime import UTC, tzinfo
from pathlib import Path
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

LOCALTIME = Path("/etc/localtime")


def local_zone() -> tzinfo:
    """The zone of this machine, with its summer time: `TZ`, else what /etc/localtime says, else UTC."""
    named = os.environ.get("TZ", "").lstrip(":")
    try:
        if named:
            return ZoneInfo(named)
        with LOCALTIME.open("rb") as file:
            return ZoneInfo.from_file(file)
    except (OSError, ValueError, ZoneInfoNotFoundError):
        return UTC
