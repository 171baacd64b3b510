"""What was going on: busiest processes, sessions, what the log says, what changed."""

from __future__ import annotations

import json
import logging
from typing import Any

from pydantic import ValidationError

from balise.api.events import SEVERITIES, SaidLine
from balise.api.hosts import PersonSignedIn, ProcessUse, Session
from balise.core import filters
from balise.core.kits.sessions import in_chains
from balise.core.moments import nanos, seconds_of
from balise.core.processes import added_up, busiest
from balise.store.events.day_search import Search
from balise.store.events.said import SaidCounts, SaidOften
from balise.store.events.store import EventStore

log = logging.getLogger(__name__)
MOST_SNAPSHOTS = 240
LONGEST_EXAMPLE = 1000
CHANGED_WITHIN = 4 * 3600.0
"""Seconds before a breach within which a change is worth showing with it."""


class EvidenceReader:
    """Reads what was kept around a moment. Times in unix seconds."""

    def __init__(self, events: EventStore) -> None:
        self._events = events

    def last(self, host: str, kind: str, start: float, end: float) -> list[tuple[float, Any]]:
        """What was kept last before the end of a span, newest first."""
        found = self._events.snapshots(host, kind, nanos(start), nanos(end), MOST_SNAPSHOTS)
        return [(seconds_of(at), content) for at, content in found]

    def over(self, host: str, kind: str, start: float, end: float) -> list[tuple[float, Any]]:
        """What was kept in a span, from its beginning to its end, oldest first."""
        found = self._events.snapshots_over(host, kind, nanos(start), nanos(end), MOST_SNAPSHOTS)
        return [(seconds_of(at), content) for at, content in found]

    def processes(self, host: str, start: float, end: float, limit: int = 12) -> tuple[list[ProcessUse], int]:
        """The busiest over the span, CPU as the mean over all moments looked at, and how many those were."""
        added = added_up(self.over(host, "processes", start, end), "program")
        by_cpu, by_memory = busiest(added.items, "cpu")[: limit - 2], busiest(added.items, "memory")[:3]
        chosen = by_cpu + [one for one in by_memory if one not in by_cpu]
        uses = [
            ProcessUse(
                name=one.program,
                user=one.user,
                pids=sorted(one.pids),
                cpu=one.cpu_seconds / added.seconds,
                memory=one.memory_peak,
                seen=one.looks,
            )
            for one in chosen[:limit]
        ]
        return uses, added.looks

    def sessions(self, host: str, start: float, end: float, limit: int = 60) -> list[Session]:
        """The sessions at the worst moment of the span: when the most of them waited for another."""
        found = self.over(host, "sessions", start, end)
        if not found:
            return []
        told = [(at, session_rows(content)) for at, content in found]
        at, worst = max(told, key=lambda f: (sum(1 for s in f[1] if s.get("blocked_by")), f[0]))
        return session_tree(worst, at)[:limit]

    def signed_in(self, host: str, start: float, end: float, limit: int = 50) -> list[PersonSignedIn]:
        """Everybody who was signed in at any moment of the span, each as seen last."""
        seen: dict[tuple[str, str, int], PersonSignedIn] = {}
        for at, content in self.over(host, "signed-in", start, end):
            for one in content if isinstance(content, list) else []:
                try:
                    person = PersonSignedIn.model_validate({"cpu": 0.0, "memory": 0.0, **one, "at": at})
                except (ValidationError, TypeError):
                    continue
                # A terminal is used again: who came at another moment is another session.
                key = (person.user, person.terminal, round((at - person.seconds) / 60))
                if key not in seen or seen[key].at < at:
                    seen[key] = person
        return sorted(seen.values(), key=lambda p: (-p.cpu, p.seconds))[:limit]

    def lines(self, host: str, start: float, end: float, limit: int = 8) -> list[SaidLine]:
        """What the log said most, the severe first, with how often it was said in as long a time before."""
        node = filters.parse(f'host eq {filters_text(host)} and source ne "change"')
        now = Search(nanos(start), nanos(end), "", node)
        before = Search(nanos(start - (end - start)), nanos(start), "", node)
        return said_most(self._events, now, before, limit)

    def changes(self, host: str, start: float, end: float, limit: int = 20) -> list[dict[str, Any]]:
        node = filters.parse(f'host eq {filters_text(host)} and source eq "change"')
        found, _ = self._events.find(Search(nanos(start), nanos(end), "", node), limit)
        return [e.model_dump() for e in found]

    def captured(self, host: str, opened: float, since: float) -> dict[str, Any]:
        """`of_breach`; evidence that cannot be read is evidence missing, never an alert missing."""
        try:
            return self.of_breach(host, opened, since)
        except Exception as error:
            log.exception("evidence of host=%s cannot be read", host)
            return {"missing": f"the evidence could not be read ({type(error).__name__})"}

    def of_breach(self, host: str, opened: float, since: float) -> dict[str, Any]:
        """What is kept with an alert: the minutes before it and the moment itself."""
        start = min(since, opened) - 300
        processes, _ = self.processes(host, max(start, opened - 120), opened + 1, 8)
        return {
            "from": start,
            "to": opened,
            "processes": [p.model_dump() for p in processes],
            "sessions": [s.model_dump() for s in self.sessions(host, start, opened + 1, 20)],
            "lines": [p.model_dump() for p in self.lines(host, start, opened + 1)],
            "changes": self.changes(host, start - CHANGED_WITHIN, opened + 1),
        }


def filters_text(text: str) -> str:
    """Text as a string of the filter language."""
    return json.dumps(text, ensure_ascii=False)


def said_most(events: EventStore, now: Search, before: Search, limit: int) -> list[SaidLine]:
    """The most frequent patterns of a search, the severe first, with how often each was said before."""
    counts = SaidCounts(events)
    usual = counts.of(before)

    def order(one: SaidOften) -> tuple[int, int]:
        return min(one.severity, SEVERITIES.index("warning")), -one.count

    found = []
    for one in sorted(counts.of(now).values(), key=order)[:limit]:
        held, example = events.book.root(one.pattern), counts.body(one.last)[:LONGEST_EXAMPLE]
        key = (one.pattern, one.severity, one.source)
        found.append(
            SaidLine(
                pattern=held.text if held else example,
                severity=SEVERITIES[one.severity],
                source=one.source,
                count=one.count,
                usual=float(usual[key].count) if key in usual else 0.0,
                example=example,
            )
        )
    return found


def session_rows(content: Any) -> list[dict[str, Any]]:
    """The sessions of a look, as one service or a whole host told of them."""
    rows = content.get("sessions") if isinstance(content, dict) else content
    return [row for row in rows if isinstance(row, dict)] if isinstance(rows, list) else []


def session_tree(rows: list[dict[str, Any]], at: float) -> list[Session]:
    """Sessions with the root of the chain each waits in, roots first and what waits for them below."""
    return [
        Session(
            id=one.id,
            service=str(one.row.get("service", "")),
            user=str(one.row.get("user", "")),
            application=str(one.row.get("application", "")),
            client=str(one.row.get("client", "")),
            state=str(one.row.get("state", "")),
            statement=str(one.row.get("statement", ""))[:500],
            seconds=float(one.row.get("seconds", 0.0)),
            blocked_by=one.blocked_by,
            root=one.root,
            depth=one.depth,
            at=at,
        )
        for one in in_chains(rows)
    ]
