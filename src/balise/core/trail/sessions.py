"""Sessions of services as suspects: who holds others, and what runs far more than before."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from balise.core.kits.session_spans import without_values
from balise.core.kits.sessions import blocking
from balise.core.trail.things import Happening, Thing

Row = Mapping[str, Any]
Look = tuple[float, Sequence[Row]]
"""When sessions were looked at, unix seconds, and those that were there: `id`, `service`, `application`, `user`,
`state`, `statement`, `seconds`, `blocked_by`."""
SEEN_LATE = 10.0
"""Seconds that a session's beginning may be off, as its service told it."""
MANY = 1.0
"""Sessions, on the average, by which a statement has to grow."""
OF_ONE, FEW = 0.6, 0.5
"""Of what grew, from how much on one user stands for it, unless one statement has more than the other share."""
MOST_TEXT = 80
_IDLE = ("idle", "sleep", "")


def holders(host: str, looks: Sequence[Look], start: float) -> Iterator[Happening]:
    """Sessions that began since `start` and that others waited for, as when most did."""
    held: dict[str, tuple[int, int, float, Row]] = {}
    for at, rows in looks:
        by_id = {str(row["id"]): row for row in rows if row.get("id") is not None}
        waits = {key: str(row["blocked_by"]) if row.get("blocked_by") else None for key, row in by_id.items()}
        waiting = [root for root, depth in blocking(waits).values() if depth and root]
        for root, count in Counter(waiting).items():
            row = by_id.get(root)
            if row is not None and count > held.get(root, (0, 0, 0.0, {}))[0]:
                held[root] = count, len(waiting), at - _seconds(row), row
    for count, of, began, row in held.values():
        if began >= start:
            name = str(row.get("application") or row.get("user") or row.get("id"))
            yield Happening(
                "session", Thing("session", name, host, str(row.get("service") or "")), began, "began and holds locks",
                uncertainty=SEEN_LATE, deviation=4.0 + count, share=count / of, sort="waiting",
                holds=f"{count} {'session waits' if count == 1 else 'sessions wait'} for it",
            )  # fmt: skip


def grown(host: str, looks: Sequence[Look], stretch: float) -> Iterator[Happening]:
    """Statements that run in far more sessions since `stretch` than before; the user, where it is many of one's."""
    early, late = (sum((at < stretch) is before for at, _ in looks) for before in (True, False))
    if not early or not late:
        return
    statements, users = Counter[tuple[str, str]](), Counter[tuple[str, str]]()
    first: dict[tuple[str, str], float] = {}
    for at, rows in looks:
        by = -1 / early if at < stretch else 1 / late
        for row in rows:
            if _works(row):
                service = str(row.get("service") or "")
                statement = service, without_values(str(row.get("statement") or ""))[:MOST_TEXT]
                user = service, str(row.get("user") or "")
                statements[statement] += by  # type: ignore[assignment]
                users[user] += by  # type: ignore[assignment]
                if at >= stretch:
                    for key in (statement, user):
                        first[key] = min(at - _seconds(row), first.get(key, at))
    total = sum(by for by in statements.values() if by > 0)
    most = max(statements.values(), default=0.0)
    for key, by in statements.items():
        if by >= MANY and key[1]:
            yield _more("query", host, key, by, by / total, max(first[key], stretch - 600))
    for key, by in users.items():
        if by >= MANY and key[1] and by >= OF_ONE * total and most < FEW * total:
            yield _more("user", host, key, by, by / total, max(first[key], stretch - 600))


def _more(kind: Any, host: str, key: tuple[str, str], by: float, share: float, at: float) -> Happening:
    service, name = key
    return Happening(
        "session", Thing(kind, name, host, service), at, "runs in more sessions than before", uncertainty=60.0,
        deviation=min(60.0, 4.0 + 3 * by), share=min(1.0, share), holds=f"{by:.1f} more at a time", sort="traffic",
    )  # fmt: skip


def _works(row: Row) -> bool:
    return not row.get("blocked_by") and str(row.get("state") or "").lower() not in _IDLE


def _seconds(row: Row) -> float:
    return float(row.get("seconds") or 0.0)
