"""When a delivery was sent, by its sender's own clock."""

from __future__ import annotations

import math
from collections.abc import Mapping

SENT_HEADER = "x-balise-sent"
"""When a delivery was sent by its sender's own clock, unix seconds: how far that clock is off shows when it comes."""


def behind_by(headers: Mapping[bytes, bytes], now: float) -> float | None:
    """By how many seconds a sender's clock is behind ours, from when it says that it sends; None if it does not."""
    try:
        sent = float(headers[SENT_HEADER.encode()])
    except (KeyError, ValueError):
        return None
    return now - sent if math.isfinite(sent) else None
