"""When patterns of lines began, became frequent, or were gone: counts by host and pattern, by the hour and in steps."""

from __future__ import annotations

import json
import math
from collections.abc import Collection, Iterable, Mapping
from typing import NamedTuple

from balise.store.events.day import HOUR, DayReader
from balise.store.events.store import EventStore

MOST_ROWS, MOST_SAMPLES = 200_000, 100
_ATTRIBUTES = (
    "CASE WHEN typeof(event.attributes) = 'integer' "
    "THEN (SELECT kept.attributes FROM kept WHERE kept.id = event.attributes) ELSE event.attributes END"
)
_SHIFT = 2**31
_INSIDE = (
    "(event.id BETWEEN ? AND ? OR event.id < 0) AND time >= ? AND time < ? "
    f"AND event.host * {_SHIFT} + pattern IN (SELECT value FROM json_each(?))"
)


class Said(NamedTuple):
    """A pattern on a host, with a severity code and a source."""

    host: str
    pattern: int
    severity: int
    source: str


class Sample(NamedTuple):
    """One line of a pattern, and the service that it is of; empty for none."""

    body: str
    service: str


class Step(NamedTuple):
    """Lines in a step, and when the first of them came, nanoseconds."""

    lines: int
    first: int


def said_by_hour(events: EventStore, hosts: Collection[str], start: int, end: int) -> dict[Said, dict[int, int]]:
    """By the kept counts how much some hosts said in each hour that touches [start, end), nanoseconds, without what
    tells of changes. An hour is that many since 1970."""
    found: dict[Said, dict[int, int]] = {}
    names = json.dumps(sorted(hosts))
    for _, file in events.existing(start, end):
        rows = file.read(
            "SELECT host.name, pattern, severity, source.name, hour, count FROM said "
            "JOIN host ON host.id = said.host JOIN source ON source.id = said.source "
            "WHERE hour BETWEEN ? AND ? AND source.name <> 'change' "
            "AND host.name IN (SELECT value FROM json_each(?)) LIMIT ?",
            [start // HOUR, (end - 1) // HOUR, names, MOST_ROWS],
        )
        for host, pattern, severity, source, hour, count in rows:
            counts = found.setdefault(Said(host, _root(events, pattern), severity, source), {})
            counts[hour] = counts.get(hour, 0) + count
    return found


class Around(NamedTuple):
    """How many lines came before a moment and since, and when the first of each came, nanoseconds; 0 for none."""

    before: int
    since: int
    first_before: int
    first_since: int

    def far(self, length: float) -> float:
        """How much more, or less, than by chance (Poisson) was said since, when before was so many times as long."""
        expected = self.before / length
        return abs(self.since - expected) / math.sqrt(expected + 1)

    def and_(self, other: Around) -> Around:
        """Of both."""
        firsts = (sorted(pair)[not min(pair)] for pair in zip(self[2:], other[2:], strict=True))
        return Around(self.before + other.before, self.since + other.since, *firsts)


NEVER = Around(0, 0, 0, 0)


def said_around(
    events: EventStore, wanted: Collection[Said], start: int, moment: int, end: int, *, every: int = 1
) -> dict[Said, Around]:
    """Of some patterns how often they were said from `start` to `moment`, and from there to `end`; nanoseconds. Of
    what is said very often one line of `every` stands for all."""
    found: dict[Said, Around] = {}
    chosen = set(wanted)
    for _, file in events.existing(start, end):
        rows = file.read(
            "SELECT host.name, pattern, severity, source.name, sum(time < ?), sum(time >= ?), "
            "coalesce(min(CASE WHEN time < ? THEN time END), 0), coalesce(min(CASE WHEN time >= ? THEN time END), 0) "
            "FROM event JOIN host ON host.id = event.host JOIN source ON source.id = event.source "
            f"WHERE event.id % ? = 0 AND {_INSIDE} "
            "GROUP BY event.host, pattern, severity, event.source",
            [*[moment] * 4, every, *file.ids_between(start, end), start, end, _pairs(events, file, chosen)],
        )
        for host, pattern, severity, source, before, since, *firsts in rows:
            one = Said(host, _root(events, pattern), severity, source)
            if one in chosen:
                found[one] = found.get(one, NEVER).and_(Around(before * every, since * every, *firsts))
    return found


def said_in_steps(
    events: EventStore, wanted: Collection[Said], start: int, end: int, width: int, *, every: int = 1
) -> dict[Said, dict[int, Step]]:
    """Of some patterns the lines in each step of `width` from `start` on that has any; all nanoseconds. Of what is said
    very often one line of `every` stands for all."""
    found: dict[Said, dict[int, Step]] = {}
    chosen = set(wanted)
    for _, file in events.existing(start, end):
        rows = file.read(
            "SELECT host.name, pattern, severity, source.name, (time - ?) / ? AS step, count(*), min(time) "
            "FROM event JOIN host ON host.id = event.host JOIN source ON source.id = event.source "
            f"WHERE event.id % ? = 0 AND {_INSIDE} "
            "GROUP BY event.host, pattern, severity, event.source, step LIMIT ?",
            [start, width, every, *file.ids_between(start, end), start, end, _pairs(events, file, chosen), MOST_ROWS],
        )
        for host, pattern, severity, source, step, count, first in rows:
            one = Said(host, _root(events, pattern), severity, source)
            if one in chosen:
                steps = found.setdefault(one, {})
                held = steps.get(step, Step(0, first))
                steps[step] = Step(held.lines + count * every, min(held.first, first))
    return found


def samples(events: EventStore, wanted: Collection[Said], start: int, end: int) -> Mapping[Said, list[Sample]]:
    """Some lines of each of some patterns in [start, end), nanoseconds, the first that came."""
    found: dict[Said, list[Sample]] = {}
    chosen = set(wanted)
    for _, file in events.existing(start, end):
        rows = file.read(
            "SELECT host.name, pattern, severity, source.name, body, attributes FROM (SELECT host, pattern, severity, "
            f"source, body, {_ATTRIBUTES} AS attributes, row_number() OVER (PARTITION BY host, pattern, severity) AS "
            f"place FROM event WHERE {_INSIDE}) AS said "
            "JOIN host ON host.id = said.host JOIN source ON source.id = said.source WHERE place <= ?",
            [*file.ids_between(start, end), start, end, _pairs(events, file, chosen), MOST_SAMPLES],
        )
        for host, pattern, severity, source, body, attributes in rows:
            one = Said(host, _root(events, pattern), severity, source)
            if one in chosen and len(held := found.setdefault(one, [])) < MOST_SAMPLES:
                held.append(Sample(body, _service(attributes)))
    return found


def _root(events: EventStore, pattern: int | None) -> int:
    held = events.book.root(pattern or 0)
    return held.id if held is not None else 0


def _pairs(events: EventStore, file: DayReader, wanted: Iterable[Said]) -> str:
    """All hosts and patterns of a day that count as one of these, as a JSON list of one number for each."""
    hosts = dict(file.read("SELECT name, id FROM host", []))
    families = {one.pattern: events.book.family(one.pattern) | {one.pattern} for one in wanted}
    return json.dumps(
        [hosts[one.host] * _SHIFT + number for one in wanted if one.host in hosts for number in families[one.pattern]]
    )


def _service(attributes: str | None) -> str:
    if not attributes or "service.name" not in attributes:
        return ""
    return str(json.loads(attributes).get("service.name", ""))
