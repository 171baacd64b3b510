"""Adding up what looks at the busiest processes say: per process, per program, per user."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Any

from balise.api.processes import ProcessOf, ProcessOrder

LONGEST_GAP = 2.5
"""How many times the usual time between looks one may come after another for what was between to be counted."""
MOST_KEPT = 5000
"""Processes that are told apart in one span; those of short life may be many."""
MOST_ROWS = 1000
"""Rows of a look that are read."""
MOST_PIDS = 20
"""Processes of a program, or of a user, that are told by their number."""
Key = tuple[Any, ...]


@dataclass
class Added:
    """What one of them took. Times in unix seconds, 0 for unknown; memory and io in bytes."""

    program: str
    user: str
    pid: int | None = None
    parent: int | None = None
    command: str = ""
    unit: str = ""
    started: float = 0.0
    ended: float = 0.0
    cpu_seconds: float = 0.0
    cpu_peak: float = 0.0
    memory_peak: float = 0.0
    io: float | None = None
    looks: int = 0
    pids: set[int] = field(default_factory=set)
    at: float = field(default=-1.0, repr=False)
    memory_now: float = field(default=0.0, repr=False)
    cpu_now: float = field(default=0.0, repr=False)

    def take(self, row: dict[str, Any], at: float, lasted: float) -> None:
        """One row of a look at `at`, which stands for so many seconds before it."""
        if self.at != at:
            self.at, self.memory_now, self.cpu_now = at, 0.0, 0.0
            self.looks += 1
        if row["pid"] is not None and len(self.pids) < MOST_PIDS:
            self.pids.add(row["pid"])
        cpu, memory = _number(row.get("cpu")), _number(row.get("memory"))
        self.cpu_now, self.memory_now = self.cpu_now + cpu, self.memory_now + memory
        self.cpu_seconds += cpu * lasted
        self.cpu_peak = max(self.cpu_peak, self.cpu_now)
        self.memory_peak = max(self.memory_peak, self.memory_now)
        if row.get("io") is not None:
            self.io = (self.io or 0.0) + _number(row["io"]) * lasted


@dataclass(frozen=True)
class AddedUp:
    """What is known of each, how many looks there were, and for how many seconds these stand."""

    items: list[Added]
    looks: int
    seconds: float


def added_up(looks: Iterable[tuple[float, Any]], of: ProcessOf) -> AddedUp:
    """Adds up the rows of looks at a host.

    Args:
        looks: moments, unix seconds, and what was told at each, in any order.
    """
    # Of a look that came twice only one counts.
    ordered = sorted({at: _rows(told, of) for at, told in looks}.items(), key=lambda look: look[0])
    between = _between([at for at, _ in ordered])
    found: dict[Key, Added] = {}
    before: float | None = None
    stood_for = 0.0
    for at, rows in ordered:
        lasted = at - before if before is not None and at - before <= LONGEST_GAP * between else between
        before = at
        stood_for += lasted
        for row in rows:
            if len(found) >= MOST_KEPT and _key(row, of) not in found:
                continue
            one = found.setdefault(_key(row, of), Added(_text(row, "name"), _text(row, "user")))
            if of == "process":
                _identify(one, row)
            if "ended" in row:
                one.ended = _number(row["ended"])
            else:
                one.take(row, at, lasted)
                one.command, one.unit = _text(row, "command") or one.command, _text(row, "unit") or one.unit
    if of != "process":
        for one in found.values():
            one.ended = 0.0
    return AddedUp([one for one in found.values() if one.looks], len(ordered), stood_for)


def busiest(found: Iterable[Added], by: ProcessOrder) -> list[Added]:
    """The highest first."""

    def order(one: Added) -> float:
        return {"cpu": one.cpu_seconds, "memory": one.memory_peak, "io": one.io or 0.0}[by]

    return sorted(found, key=lambda one: (-order(one), -one.cpu_seconds, one.program, one.pid or 0))


def _key(row: dict[str, Any], of: ProcessOf) -> Key:
    if of == "user":
        return (_text(row, "user"),)
    if of == "program":
        return (_text(row, "name"), _text(row, "user"))
    return (row["pid"], _text(row, "name"), _text(row, "user"))


def _identify(one: Added, row: dict[str, Any]) -> None:
    one.pid = row["pid"]
    one.parent = int(_number(row.get("parent"))) or one.parent
    one.started = _number(row.get("started")) or one.started


def _rows(told: Any, of: ProcessOf) -> list[dict[str, Any]]:
    """The rows of a look that make sense; hosts say what they like. One process is nothing without its number."""
    rows = told[:MOST_ROWS] if isinstance(told, list) else []
    found = []
    for row in rows:
        if not isinstance(row, dict) or not all(isinstance(row.get(key, 0), int | float) for key in ("cpu", "memory")):
            continue
        pid = row.get("pid")
        number = int(pid) if isinstance(pid, int | float) and math.isfinite(pid) else None
        if number is not None or of != "process":
            found.append({**row, "pid": number})
    return found


def _between(moments: Sequence[float]) -> float:
    """The usual time between looks: the middle one; a minute when there is but one look."""
    gaps = sorted(later - earlier for earlier, later in pairwise(moments) if later > earlier)
    return gaps[(len(gaps) - 1) // 2] if gaps else 60.0


def _number(value: Any) -> float:
    if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
        return 0.0
    return min(max(float(value), 0.0), 1e15)


def _text(row: dict[str, Any], key: str) -> str:
    value = row.get(key)
    return value[:300] if isinstance(value, str) else ""
