"""What the sessions of a host's services did over a span."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from typing import Any

from balise.api.processes import SessionOf, SessionSpan, SessionSpans
from balise.api.spans import rfc3339
from balise.core.kits.session_spans import LONGEST_LOOK, SessionWork, added_up, without_values
from balise.core.moments import NS, nanos
from balise.server.errors import unknown
from balise.server.events.evidence import session_rows
from balise.server.hosts.directory import Directory
from balise.store.events.store import EventStore

MOST_LOOKS = 720
_MOST_TEXT = 500


class SessionHistory:
    """Answers who was at work in the services of a host."""

    def __init__(self, *, directory: Directory, events: EventStore) -> None:
        self._directory = directory
        self._events = events

    def over(self, host: str, start: float, end: float, *, of: SessionOf, limit: int) -> SessionSpans:
        """Sessions over [start, end), unix seconds. Raises Refused 404 for a host there is not."""
        known = self._directory.find(host)
        if known is None:
            raise unknown("host", host)
        looks = self._events.snapshots_over(known.name, "sessions", nanos(start), nanos(end), MOST_LOOKS)
        told = list(_by_service(looks))
        # Of a long span not every look is read: each stands for those beside it.
        found = added_up(told, min(end, time.time()), of, max(LONGEST_LOOK, 2.5 * (end - start) / MOST_LOOKS))
        return SessionSpans(items=[_answer(one, of) for one in found[:limit]], looked=len(looks))


def _by_service(looks: Sequence[tuple[int, Any]]) -> Iterator[tuple[float, str, list[dict[str, Any]]]]:
    """Looks of one service each; one at a whole host says of each service seen before whether it has any."""
    seen: set[str] = set()
    for at, content in looks:
        rows = session_rows(content)
        if isinstance(content, dict):
            found = {str(content.get("service") or ""): rows}
        else:
            found = {name: [] for name in seen}
            for row in rows:
                found.setdefault(str(row.get("service") or ""), []).append(row)
        seen.update(found)
        for service, mine in found.items():
            yield at / NS, service, mine


def _answer(one: SessionWork, of: SessionOf) -> SessionSpan:
    row, alone = one.row, len(one.sessions) == 1

    def text(name: str, shown: bool) -> str:
        return str(row.get(name) or "")[:_MOST_TEXT] if shown else ""

    statement = text("statement", alone or of == "statement")
    return SessionSpan(
        service=one.service,
        session=text("id", alone),
        user=text("user", alone or of in ("user", "statement")),
        application=text("application", alone or of == "application"),
        client=text("client", alone or of == "client"),
        statement=without_values(statement) if of == "statement" else statement,
        state=text("state", alone),
        sessions=len(one.sessions),
        seconds=round(one.seconds, 3),
        waited_seconds=round(one.waited, 3),
        held_seconds=round(one.held, 3),
        first_at=rfc3339(one.first),
        last_at=rfc3339(one.last),
        looks=one.looks,
    )
