"""An event before it has a number."""

from __future__ import annotations

from typing import NamedTuple

from balise.core.moments import Nanos


class NewEvent(NamedTuple):
    """`severity` is the numerical code of RFC 5424, `attributes` JSON or None."""

    time: Nanos
    host: str
    severity: int
    source: str
    body: str
    attributes: str | None = None
