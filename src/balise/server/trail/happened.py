"""What began around a stretch: lines, changes, sessions, processes, silence."""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from typing import Any

from balise.api.hosts import Stretch
from balise.core.filters import parse
from balise.core.kits.sessions import blocking
from balise.core.moments import NS, nanos, seconds_of
from balise.core.trail.things import Happening, Thing
from balise.server.events.evidence import session_rows
from balise.server.hosts.directory import Known
from balise.store.events.began import WIDTH, SaidSteps, bodies, said_in_steps
from balise.store.events.day_search import DAY, Search
from balise.store.events.store import EventStore

MOST_PATTERNS, MOST_CHANGES, MOST_LOOKS = 200, 300, 120
FAR = 5.0
"""Deviations, by chance alone, from which lines are more than usual."""
AS_USUAL = 0.5
"""Of the lines in a stretch, how many at the same time a day before make it usual."""
OF_ONE = 0.6
"""Of the lines of a pattern, from how many on one address stands for it."""
FEWEST_OF_ONE = 10
GREW = 0.25
"""Cores by which a process has to grow."""
_ADDRESS = re.compile(r"(?<![\w.])(?:\d{1,3}\.){3}\d{1,3}(?![\w.])")


class Happened:
    """Reads the events, and the snapshots that agents kept. `states` says what states a host had over a span."""

    def __init__(self, *, events: EventStore, states: Callable[[str, float, float], Sequence[Stretch]]) -> None:
        self._events = events
        self._states = states

    def of(self, hosts: Sequence[Known], start: float, end: float, before: float) -> tuple[list[Happening], int]:
        """What began on some hosts from `before` seconds before `start` until `end`; and how many lines there were."""
        names = {known.name for known in hosts}
        said, looked = self._said(names, start, end, before)
        found = [*said, *self._changes(names, start - before / 2, end)]
        for known in hosts:
            found += self._sessions(known.name, start - before, end)
            found += self._processes(known.name, start - before, start, end)
            found += self._silence(known, start - before / 2, end)
        return found, looked

    # --- lines

    def _said(self, names: set[str], start: float, end: float, before: float) -> tuple[list[Happening], int]:
        lo, at, hi = nanos(start - before), nanos(start), nanos(end)
        every = said_in_steps(self._events, names, lo, hi)
        yesterday = {
            (one.host, one.pattern, one.severity): sum(one.counts.values())
            for one in said_in_steps(self._events, names, at - DAY, hi - DAY)
        }
        scale = (end - start) / before
        told: list[tuple[float, SaidSteps]] = []
        for one in every:
            usual = one.count(lo, at) * scale
            deviation = (one.count(at - 600 * NS, hi) - usual) / math.sqrt(usual + 1)
            if deviation >= FAR:
                told.append((deviation, one))
        told.sort(key=lambda pair: -pair[0])
        found = []
        for deviation, one in told[:MOST_PATTERNS]:
            now = max(1, one.count(at, hi))
            usual = min(1.0, yesterday.get((one.host, one.pattern, one.severity), 0) / now)
            found.append(self._began(one, deviation, usual if usual >= AS_USUAL else 0.0, lo, at, hi))
        return found, sum(sum(one.counts.values()) for one in every)

    def _began(self, one: SaidSteps, deviation: float, usual: float, lo: int, at: int, hi: int) -> Happening:
        before = one.count(lo, at) / max(1, (at - lo) // WIDTH)
        many = [step for step in sorted(one.counts) if one.counts[step] > 4 * before + 1 and step * WIDTH >= lo]
        step = many[0] if many else min(one.counts)
        book = self._events.book.root(one.pattern)
        text = book.text if book else one.source
        thing, share = Thing("host", one.host, one.host), 0.0
        lines = bodies(self._events, one, at, hi)
        addresses = Counter(address for body in lines for address in set(_ADDRESS.findall(body)))
        if addresses and len(lines) >= FEWEST_OF_ONE:
            address, count = addresses.most_common(1)[0]
            if count >= OF_ONE * len(lines):
                thing, share = Thing("address", address, one.host), count / len(lines)
        count = one.count(at, hi)
        return Happening(
            "pattern", thing, seconds_of(one.firsts[step]), f"{'says' if before else 'says anew'}: {text[:160]}",
            uncertainty=2.0 if not before else WIDTH / NS, deviation=min(deviation, 60.0), usual=usual, share=share,
            holds=f"{count} lines" if share else "",
        )  # fmt: skip

    # --- changes

    def _changes(self, names: set[str], start: float, end: float) -> Iterator[Happening]:
        search = Search(nanos(start), nanos(end), where=parse('source eq "change"'))
        for one in self._events.find(search, MOST_CHANGES)[0]:
            if one.host in names:
                attributes = one.attributes or {}
                name = str(attributes.get("change.what") or attributes.get("job") or one.body)[:80]
                thing = Thing("change", name, one.host)
                yield Happening("change", thing, _unix(one.time), one.body[:200], uncertainty=5.0)

    # --- sessions

    def _sessions(self, host: str, start: float, end: float) -> Iterator[Happening]:
        """Who held others, the whole time or a part of it."""
        looks = self._events.snapshots_over(host, "sessions", nanos(start), nanos(end), MOST_LOOKS)
        held: dict[str, tuple[int, int, float, dict[str, Any]]] = {}
        for moment, content in looks:
            rows = {str(row["id"]): row for row in session_rows(content) if row.get("id") is not None}
            blockers = {key: str(row["blocked_by"]) if row.get("blocked_by") else None for key, row in rows.items()}
            waiting = [root for root, depth in blocking(blockers).values() if depth and root]
            for root, count in Counter(waiting).items():
                row = rows.get(root)
                if row is None or count <= held.get(root, (0, 0, 0.0, {}))[0]:
                    continue
                began = moment / NS - float(row.get("seconds") or 0.0)
                held[root] = (count, len(waiting), began, row)
        for count, of, began, row in held.values():
            if began >= start:
                name = str(row.get("application") or row.get("user") or row.get("id"))
                thing = Thing("session", name, host, str(row.get("service") or ""))
                yield Happening(
                    "session", thing, began, "began and holds locks", uncertainty=10.0, deviation=4.0 + count,
                    share=count / of, holds=f"{count} sessions wait for it",
                )  # fmt: skip

    # --- processes

    def _processes(self, host: str, start: float, stretch: float, end: float) -> Iterator[Happening]:
        """Who began, or took much more of the processor, in the stretch."""
        looks = self._events.snapshots_over(host, "processes", nanos(start), nanos(end), MOST_LOOKS)
        early: dict[tuple[str, str], list[float]] = {}
        late: dict[tuple[str, str], list[float]] = {}
        first: dict[tuple[str, str], tuple[float, float]] = {}
        counts = [0, 0]
        for moment, content in looks:
            at = moment / NS
            held = late if at >= stretch else early
            counts[at >= stretch] += 1
            for row in content if isinstance(content, list) else ():
                key = (str(row.get("name") or ""), str(row.get("user") or ""))
                held.setdefault(key, []).append(float(row.get("cpu") or 0.0))
                if at >= stretch - 600 and key not in early:
                    first.setdefault(key, (float(row.get("started") or at), at))
        if not counts[1]:
            return
        grew = {key: sum(cpu) / counts[1] - sum(early.get(key, ())) / max(1, counts[0]) for key, cpu in late.items()}
        total = sum(by for by in grew.values() if by > 0)
        for key, by in grew.items():
            if by < GREW:
                continue
            began, seen = first.get(key, (stretch, stretch))
            new = began >= start
            yield Happening(
                "process", Thing("process", key[0], host), began if new else seen,
                "began and takes the processor" if new else "takes more of the processor",
                uncertainty=5.0 if new else 60.0, deviation=min(60.0, 6.0 + 4 * by), share=by / total,
                holds=f"{by:.1f} cores more than before",
            )  # fmt: skip

    # --- silence

    def _silence(self, known: Known, start: float, end: float) -> Iterator[Happening]:
        for since, state in ((one.at, one.state) for one in self._states(known.name, start, end)):
            if state == "silent" and start <= since < end:
                thing = Thing("link", "network", known.name)
                yield Happening(
                    "state", thing, since - known.interval * 2, "nothing is heard of it, its neighbours are there",
                    uncertainty=known.interval * 2, deviation=20.0, share=1.0,
                )  # fmt: skip


def _unix(text: str) -> float:
    return datetime.fromisoformat(text).timestamp()
