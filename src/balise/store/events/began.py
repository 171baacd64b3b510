"""When patterns of lines began, or became frequent: counts by host and pattern in short steps."""

from __future__ import annotations

import json
from collections.abc import Collection
from dataclasses import dataclass, field

from balise.core.moments import NS
from balise.store.events.store import EventStore

MOST_ROWS, MOST_BODIES = 60_000, 200
WIDTH = 30 * NS


@dataclass
class SaidSteps:
    """Of one pattern on one host: how many lines in each step that has any, and when the first of each came."""

    host: str
    pattern: int
    severity: int
    source: str
    counts: dict[int, int] = field(default_factory=dict)
    firsts: dict[int, int] = field(default_factory=dict)

    def count(self, start: int, end: int) -> int:
        """Lines in the steps that begin in [start, end), nanoseconds."""
        return sum(count for step, count in self.counts.items() if start <= step * WIDTH < end)


def said_in_steps(events: EventStore, hosts: Collection[str], start: int, end: int) -> list[SaidSteps]:
    """What some hosts said in [start, end), nanoseconds, without what tells of changes."""
    found: dict[tuple[str, int, int, str], SaidSteps] = {}
    names = json.dumps(sorted(hosts))
    for _, file in events.existing(start, end):
        low, high = file.ids_between(start, end)
        rows = file.read(
            "SELECT host.name, pattern, severity, source.name, time / ? AS step, count(*), min(time) "
            "FROM event JOIN host ON host.id = event.host JOIN source ON source.id = event.source "
            "WHERE (event.id BETWEEN ? AND ? OR event.id < 0) AND time >= ? AND time < ? AND source.name <> 'change' "
            "AND host.name IN (SELECT value FROM json_each(?)) "
            "GROUP BY event.host, pattern, severity, event.source, step LIMIT ?",
            [WIDTH, low, high, start, end, names, MOST_ROWS],
        )
        for host, pattern, severity, source, step, count, first in rows:
            key = (host, pattern or 0, severity, source)
            one = found.setdefault(key, SaidSteps(*key))
            one.counts[step] = one.counts.get(step, 0) + count
            one.firsts[step] = min(first, one.firsts.get(step, first))
    return list(found.values())


def bodies(events: EventStore, one: SaidSteps, start: int, end: int) -> list[str]:
    """Some lines of a pattern on a host."""
    found: list[str] = []
    for _, file in events.existing(start, end):
        low, high = file.ids_between(start, end)
        rows = file.read(
            "SELECT body FROM event WHERE (id BETWEEN ? AND ? OR id < 0) AND time >= ? AND time < ? AND pattern = ? "
            "AND severity = ? AND host = (SELECT id FROM host WHERE name = ?) LIMIT ?",
            [low, high, start, end, one.pattern, one.severity, one.host, MOST_BODIES - len(found)],
        )
        found += [body for (body,) in rows]
        if len(found) >= MOST_BODIES:
            break
    return found
