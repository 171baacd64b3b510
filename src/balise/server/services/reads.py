"""What was read of a service, looked at for any moment: its sessions and the tables its kit keeps."""

from __future__ import annotations

import time
from collections.abc import Iterable
from typing import Any

from balise.api.services import ServiceTable, SessionNow, Sessions
from balise.api.spans import instant, rfc3339
from balise.core.kits.sessions import in_chains
from balise.server.errors import Refused
from balise.server.events.evidence import EvidenceReader, session_rows
from balise.server.services.book import ServiceBook
from balise.server.services.kits import KitBook

SESSIONS_WITHIN = 660.0
"""Sessions are kept when they change, and every five minutes: an older look says nothing of a moment."""


class ServiceReads:
    """Reads what was kept of services."""

    def __init__(self, *, services: ServiceBook, evidence: EvidenceReader, kits: KitBook) -> None:
        self._services = services
        self._evidence = evidence
        self._kits = kits

    def sessions(self, number: int, at: str | None) -> Sessions:
        """The sessions of a service now, or at an earlier moment."""
        service = self._services.get(number)
        moment = self._moment(at)
        for when, content in self._evidence.last(service.host, "sessions", moment - SESSIONS_WITHIN, moment):
            rows = [row for row in session_rows(content) if row.get("service") in ("", None, service.name)]
            mine = content.get("service") == service.name if isinstance(content, dict) else bool(rows)
            if mine:
                return Sessions(at=rfc3339(when), items=sessions_of(rows, when))
        return Sessions(at=None, items=[])

    def tables(self, number: int, at: str | None) -> list[ServiceTable]:
        """The tables that a service's kit keeps, each as it was last read before a moment."""
        service = self._services.get(number)
        kit = self._kits.find(service.kit)
        moment = self._moment(at)
        found = []
        for part in kit.read if kit is not None else ():
            if part.keep is None:
                continue
            kind = f"table-{part.keep.name}"
            looked = self._evidence.last(service.host, kind, moment - 3 * 3600, moment)
            when, rows = next(
                ((w, c["rows"]) for w, c in looked if isinstance(c, dict) and c.get("service") == service.name),
                (None, []),
            )
            columns = part.keep.columns or {column: column for column in (rows[0] if rows else ())}
            at_text = rfc3339(when) if when is not None else None
            found.append(
                ServiceTable(name=part.keep.name, about=part.keep.about, columns=columns, at=at_text, rows=rows)
            )
        return found

    @staticmethod
    def _moment(at: str | None) -> float:
        if at is None:
            return time.time() + 1
        try:
            return instant(at, time.time()) + 1e-3
        except ValueError as error:
            raise Refused(422, f"at: {error}") from None


def sessions_of(rows: Iterable[dict[str, Any]], when: float) -> list[SessionNow]:
    """Sessions with the root of the chain each waits in: the longest chain first, its root at the head."""
    return [
        SessionNow(
            id=one.id,
            user=str(one.row.get("user") or ""),
            application=str(one.row.get("application") or ""),
            client=str(one.row.get("client") or ""),
            state=str(one.row.get("state") or ""),
            statement=str(one.row.get("statement") or ""),
            since=rfc3339(when - float(one.row.get("seconds") or 0.0)),
            seconds=float(one.row.get("seconds") or 0.0),
            blocked_by=one.blocked_by,
            root=one.root,
            depth=one.depth,
        )
        for one in in_chains(rows)
    ]
