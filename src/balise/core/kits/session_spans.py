"""Adding up what looks at the sessions of services say over a span."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from balise.api.processes import SessionOf
from balise.core.kits.sessions import blocking

LONGEST_LOOK = 660.0
"""Seconds for which a look stands at most: sessions are kept when they change, and every five minutes."""
MOST_KEPT = 5000
_VALUES = re.compile(r"'(?:[^']|'')*'|\b\d+(?:\.\d+)?\b")
_COLUMN: dict[SessionOf, str] = {
    "session": "id",
    "user": "user",
    "application": "application",
    "client": "client",
    "statement": "statement",
}
Rows = Sequence[Mapping[str, Any]]


@dataclass
class SessionWork:
    """What one of them did. Times in unix seconds, lengths in seconds."""

    service: str
    row: Mapping[str, Any]
    first: float
    last: float = 0.0
    seconds: float = 0.0
    waited: float = 0.0
    held: float = 0.0
    looks: int = 0
    sessions: set[str] = field(default_factory=set)


def without_values(statement: str) -> str:
    """A statement as all of its kind read.

    >>> without_values("select * from seats where sailing = 4711 and deck = 'B''2'")
    'select * from seats where sailing = ? and deck = ?'
    """
    return _VALUES.sub("?", " ".join(statement.split()))


def added_up(
    looks: Iterable[tuple[float, str, Rows]], end: float, of: SessionOf, longest: float = LONGEST_LOOK
) -> list[SessionWork]:
    """Adds up looks, each of one service: who held others first, then the longest at work.

    Args:
        looks: moments, unix seconds, the service that was looked at, and its sessions, in any order.
        end: when the last looks stop to stand for what went on, unix seconds.
        longest: seconds for which a look stands at most.
    """
    found: dict[tuple[str, str], SessionWork] = {}
    for service, mine in _by_service(looks).items():
        moments = sorted(mine)
        for at, after in zip(moments, [*moments[1:], end], strict=True):
            _take(found, service, at, mine[at], min(max(after - at, 0.0), longest), of)
    return sorted(found.values(), key=lambda one: (-one.held, -one.seconds, one.first))


def _by_service(looks: Iterable[tuple[float, str, Rows]]) -> dict[str, dict[float, Rows]]:
    found: dict[str, dict[float, Rows]] = {}
    for at, service, rows in looks:
        found.setdefault(service, {})[at] = rows
    return found


def _take(
    found: dict[tuple[str, str], SessionWork], service: str, at: float, rows: Rows, lasted: float, of: SessionOf
) -> None:
    waits = {str(row["id"]): _blocker(row) for row in rows if row.get("id") is not None}
    # Whoever waits behind another is held by the head of the chain, and not by those that wait themselves.
    heads = Counter(root for root, depth in blocking(waits).values() if root is not None and depth)
    seen: set[tuple[str, str]] = set()
    for row in rows:
        number = str(row.get("id") or "")
        key = (service, _key(row, of))
        if not number or (key not in found and len(found) >= MOST_KEPT):
            continue
        one = found.setdefault(key, SessionWork(service, row, at))
        if key not in seen:
            seen.add(key)
            one.looks += 1
        one.row, one.last = row, at
        one.seconds += lasted
        one.waited += lasted if waits[number] else 0.0
        one.held += lasted * heads[number]
        if len(one.sessions) < MOST_KEPT:
            one.sessions.add(number)


def _key(row: Mapping[str, Any], of: SessionOf) -> str:
    value = str(row.get(_COLUMN[of]) or "")
    return without_values(value) if of == "statement" else value


def _blocker(row: Mapping[str, Any]) -> str | None:
    return str(row["blocked_by"]) if row.get("blocked_by") else None
