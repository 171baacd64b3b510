"""What plans say that is sent on of hosts, kept for the next start."""

from __future__ import annotations

import logging
from pathlib import Path

from pydantic import BaseModel

from balise.api.relays import SumPlan
from balise.durable import write_durably

log = logging.getLogger(__name__)


class Less(BaseModel):
    """By host: in how many seconds one point of each of its series is sent on; and what is added up."""

    thin: dict[int, float] = {}
    sums: list[SumPlan] = []


def kept(path: Path) -> Less:
    """What was kept last; nothing if there is none."""
    try:
        return Less.model_validate_json(path.read_bytes())
    except (OSError, ValueError):
        return Less()


def keep(path: Path, less: Less) -> None:
    """Keeps it. Where that cannot be, all is sent on after a start until the console answers."""
    try:
        write_durably(path, less.model_dump_json().encode())
    except OSError as error:
        log.error("what plans say of sending on cannot be kept: %s", error.strerror)
