"""Sessions of a service and who blocks whom."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

MOST_SESSIONS = 60
MOST_STATEMENT = 500


def kept_sessions(rows: Iterable[Mapping[str, Any]], service: str) -> list[dict[str, Any]]:
    """The sessions worth keeping of one look: those in a chain of blocks, then those that work, longest first.

    A row has `id`, and where the service tells them `user`, `application`, `client`, `state`, `statement`, `seconds`
    and `blocked_by`, the id of a session it waits for. Idle sessions that nobody waits for are left out.
    """
    found = [dict(row) for row in rows if row.get("id") is not None]
    waited_for = {str(row["blocked_by"]) for row in found if row.get("blocked_by")}

    def rank(row: Mapping[str, Any]) -> tuple[int, float]:
        if row.get("blocked_by") or str(row["id"]) in waited_for:
            return 0, -_seconds(row)
        idle = str(row.get("state") or "").lower() in ("idle", "sleep", "")
        return (2 if idle else 1), -_seconds(row)

    worth = [row for row in found if rank(row)[0] < 2]
    return [
        {
            "id": str(row["id"]),
            "service": service,
            "user": str(row.get("user") or ""),
            "application": str(row.get("application") or ""),
            "client": str(row.get("client") or ""),
            "state": str(row.get("state") or ""),
            "statement": str(row.get("statement") or "")[:MOST_STATEMENT],
            "seconds": round(_seconds(row), 3),
            "blocked_by": str(row["blocked_by"]) if row.get("blocked_by") else None,
        }
        for row in sorted(worth, key=rank)[:MOST_SESSIONS]
    ]


def _seconds(row: Mapping[str, Any]) -> float:
    try:
        return max(0.0, float(row.get("seconds") or 0.0))
    except (TypeError, ValueError):
        return 0.0


def blocking(blocked_by: Mapping[str, str | None]) -> dict[str, tuple[str | None, int]]:
    """For each session the root of the chain it waits in, and how many it waits behind.

    `blocking({"a": None, "b": "a", "c": "b", "d": None}) ==
    {"a": ("a", 0), "b": ("a", 1), "c": ("a", 2), "d": (None, 0)}`: who is in no chain has no root.
    A ring, which a service resolves by itself before long, has its first member as root.
    """
    waited_for = {blocker for blocker in blocked_by.values() if blocker}
    found: dict[str, tuple[str | None, int]] = {}
    for session in blocked_by:
        at, depth, seen = session, 0, {session}
        while (blocker := blocked_by.get(at)) and blocker not in seen:
            at, depth = blocker, depth + 1
            seen.add(blocker)
        found[session] = (at if depth or session in waited_for else None, depth)
    return found


@dataclass(frozen=True)
class Placed:
    """A session's row with the root of the chain it waits in and how many it waits behind."""

    id: str
    row: Mapping[str, Any]
    blocked_by: str | None
    root: str | None
    depth: int


def in_chains(rows: Iterable[Mapping[str, Any]]) -> list[Placed]:
    """Sessions in the order to read them: the longest chain first, under each session those that wait for it.

    Those in no chain come last, the longest at work first.
    """
    held = {str(row["id"]): row for row in rows if row.get("id") is not None}
    blockers = {n: str(row["blocked_by"]) if row.get("blocked_by") else None for n, row in held.items()}
    roots = blocking(blockers)
    lengths = Counter(root for root, _ in roots.values() if root is not None)
    below: dict[str, list[str]] = {}
    for number, blocker in blockers.items():
        if blocker is not None:
            below.setdefault(blocker, []).append(number)

    def longest(number: str) -> float:
        return -_seconds(held[number])

    order: dict[str, None] = {}
    heads = sorted((n for n in held if roots[n][0] == n), key=lambda n: (-lengths[n], longest(n)))
    for head in heads:
        # A stack and no recursion: a chain may be as long as there are sessions.
        waiting = [head]
        while waiting:
            number = waiting.pop()
            if number not in order:
                order[number] = None
                waiting += sorted((n for n in below.get(number, ()) if n not in order), key=longest, reverse=True)
    rest = sorted((n for n in held if n not in order), key=lambda n: (-roots[n][1], longest(n)))
    return [Placed(n, held[n], blockers[n], *roots[n]) for n in [*order, *rest]]
