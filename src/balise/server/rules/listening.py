"""Events to the rules that are about them: as they come, and those that were there before."""

from __future__ import annotations

import json
import logging
import threading
import time
from collections import deque
from collections.abc import Sequence
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.events import SEVERITIES, Event
from balise.api.rules import RuleBody
from balise.api.spans import instant
from balise.core import filters
from balise.core.events.new_event import NewEvent
from balise.core.moments import nanos
from balise.server.hosts.clocks import Clocks
from balise.server.hosts.directory import Directory
from balise.server.rules.event_feed import Found
from balise.server.rules.matching import Matching, Said, said_of
from balise.server.rules.packed import packed, unpacked
from balise.server.rules.watch import Watch
from balise.server.rules.watched import Watched
from balise.store.events.day_search import Search
from balise.store.events.said import SaidCounts
from balise.store.events.store import EventStore
from balise.store.state.store import StateStore
from balise.store.state.tables import Rule, RuleHeard

log = logging.getLogger(__name__)
MOST_WAITING = 200_000
MOST_LEARNT = 200_000
"""Events of the past that one rule learns from."""
PAGE = 1000
KEPT_EVERY = 30.0
COMPARED_EVERY = 60.0
COMPARED_FOR = 0.2
"""Seconds of comparing after which others have their turn."""


class Past:
    """The events that are kept, as a rule would have found them."""

    def __init__(self, *, events: EventStore, directory: Directory, clocks: Clocks) -> None:
        self._events = events
        self._directory = directory
        self._clocks = clocks
        self._counts = SaidCounts(events)

    def matching(self, body: RuleBody) -> Matching:
        """What compares events with a rule."""
        return Matching(body, directory=self._directory, clocks=self._clocks, book=self._events.book)

    def of(self, body: RuleBody, start: float, end: float) -> tuple[list[Found], str]:
        """What a rule finds in [start, end), unix seconds, newest first; and what of it could not be looked at."""
        measure = body.measure
        matching = self.matching(body)
        where = filters.parse(measure.events) if measure.events else None
        search = Search(nanos(start), nanos(end), measure.text or "", where)
        found: list[Found] = []
        cursor: str | None = None
        for _ in range(MOST_LEARNT // PAGE):
            page, cursor = self._events.find(search, PAGE, cursor)
            found += matching.found([_again(event) for event in page])
            if cursor is None:
                return found, ""
        return found, f"looked at the last {MOST_LEARNT:,} events that pass the filter, not at all of them"

    def usual(self, body: RuleBody, now: float) -> dict[str, float]:
        """How many events of each pattern there were in as long a time a day and a week ago, the larger of both."""
        measure = body.measure
        where = filters.parse(measure.events) if measure.events else None
        found: dict[str, float] = {}
        for days in (1, 7):
            end = now - days * 86_400
            # Hours are counted as they are kept: of a shorter time it is its share.
            hours = max(body.windows, 3600.0)
            search = Search(nanos(end - hours), nanos(end), measure.text or "", where)
            of_days: dict[str, float] = {}
            for one in self._counts.of(search).values():
                held = self._events.book.root(one.pattern)
                name = str(held.id if held is not None else one.pattern)
                of_days[name] = of_days.get(name, 0.0) + one.count * body.windows / hours
            found = {name: max(found.get(name, 0.0), of_days.get(name, 0.0)) for name in found | of_days}
        return found


class Listening:
    """Compares what comes with rules about events, on a thread of its own: a slow one delays no metric."""

    def __init__(
        self, *, events: EventStore, watch: Watch, directory: Directory, state: StateStore, past: Past
    ) -> None:
        self._events = events
        self._past = past
        self._watch = watch
        self._directory = directory
        self._state = state
        self._waiting: deque[tuple[int, list[Said]]] = deque()
        self._turn = 0
        self._count = 0
        self._lock = threading.Lock()
        self._matching: dict[str, tuple[RuleBody, Matching, int]] = {}
        """By rule: its form, what compares with it, and from which turn on."""
        self._unlearnt: set[str] = set()
        self._kept_at = 0.0
        self._compared: dict[str, float] = {}
        """When it was looked up last how many events are usual, by rule."""
        self.dropped = 0
        """Events that came faster than they could be compared."""
        self._wanted = False
        self._overrun = False

    def begin(self) -> None:
        """All rules have been taken up."""
        for name in list(self._watch.rules):
            self.changed(name)

    def changed(self, name: str) -> None:
        """A rule was taken up, changed or let go."""
        rule = self._watch.rules.get(name)
        with self._lock:
            self._compared.pop(name, None)
            if rule is None or rule.events is None:
                self._matching.pop(name, None)
                self._unlearnt.discard(name)
            else:
                body = rule.body
                matching = self._past.matching(body)
                # What came before the rule is looked for in the store.
                self._matching[name] = (body, matching, self._turn)
                self._unlearnt.add(name)
            self._wanted = bool(self._matching)

    def written(self, day: int, ids: Sequence[int], events: Sequence[NewEvent], patterns: Sequence[int]) -> None:
        """Called by the event store with what is durable."""
        if not self._wanted:
            return
        with self._lock:
            if self._count + len(events) > MOST_WAITING:
                # Nothing is missing in the store: it is looked for there.
                self.dropped += len(events)
                self._overrun = True
                return
            self._waiting.append((self._turn, said_of(day, ids, events, patterns)))
            self._turn += 1
            self._count += len(events)

    # --- as they come

    def work(self) -> None:
        """Compares what waits, and learns what rules have to know of the past."""
        self._compare()
        if self._overrun:
            self._overrun = False
            self.keep(time.time())
            for name in list(self._matching):
                self._watch.renew(name, time.time())
        for name in list(self._unlearnt):
            rule = self._watch.rules.get(name)
            with self._lock:
                held = self._matching.get(name)
                self._unlearnt.discard(name)
            if rule is not None and rule.events is not None and held is not None and held[0] is rule.body:
                self._learn(rule)
        now = time.time()
        if now - self._kept_at >= KEPT_EVERY:
            self.keep(now)
        for rule in list(self._watch.rules.values()):
            due = now - self._compared.get(rule.name, 0.0) >= COMPARED_EVERY
            if due and rule.events is not None and rule.body.measure.pattern == "more":
                self._compared[rule.name] = now
                rule.events.compare(self._past.usual(rule.body, now))

    def _compare(self) -> None:
        with self._lock:
            batches = list(self._waiting)
            self._waiting.clear()
            self._count = 0
            matching = dict(self._matching)
        if not batches:
            return
        for name, (body, compared, since) in matching.items():
            rule = self._watch.rules.get(name)
            said = [one for turn, batch in batches if turn >= since for one in batch]
            if rule is not None and rule.events is not None and rule.body is body:
                try:
                    rule.events.hand_over(compared.found(said))
                except Exception as error:
                    log.exception("rule=%s cannot be compared with events", name)
                    rule.note = f"events cannot be compared: {type(error).__name__}: {error}"[:200]

    # --- what was before

    def _learn(self, rule: Watched) -> None:
        """What a rule has to know of the time before it was taken up."""
        now = time.time()
        kept, since = self._kept(rule)
        start = max(now - rule.looks_back, since if kept else 0.0)
        found, rule.note = self._past.of(rule.body, min(start, now - rule.over), now)
        # Whatever was found there and is only now told of is not counted twice.
        self._events.tell_all()
        self._compare()
        if rule.events is not None:
            # After a restart, what came since it was kept may be new; of a rule that is new nothing is.
            rule.events.learn(kept or found, found if kept else [])

    # --- through a restart

    def _kept(self, rule: Watched) -> tuple[list[Found], float]:
        """What was heard before the last time it was kept, and when that was."""
        if rule.kind not in ("first_seen", "missing_for"):
            return [], 0.0
        row = self._state.read(lambda s: s.get(RuleHeard, rule.name))
        if row is None or row.form != _form(rule):
            return [], 0.0
        found = []
        for values, first, last in unpacked(row.content, _read) or []:
            known = self._directory.find(values.get("host", ""))
            found.append(Found(last, values, known.id if known is not None else None, first=first))
        return found, row.at

    def keep(self, now: float) -> None:
        """Keeps when things were heard last, of rules that have to know."""
        self._kept_at = now
        rows = []
        for rule in list(self._watch.rules.values()):
            if rule.events is not None and rule.events.learnt and rule.kind in ("first_seen", "missing_for"):
                # What came in the last moments may not have been counted yet: it is looked for again.
                rows.append((rule.name, _form(rule), packed(_told(rule)), now - 2 * KEPT_EVERY))

        def write(session: Session) -> None:
            there = set(session.scalars(select(Rule.name).where(Rule.name.in_([row[0] for row in rows]))))
            for name, form, content, at in rows:
                if name in there:
                    session.merge(RuleHeard(rule=name, form=form, content=content, at=at))

        if rows:
            self._state.write(write)


def _form(rule: Watched) -> str:
    """What decides which events a rule is about, and in which groups."""
    measure = rule.body.measure
    return json.dumps([rule.body.hosts, measure.events, measure.text, measure.each])


def _told(rule: Watched) -> list[Any]:
    first, last = rule.heard.first, rule.heard.last
    told: list[Any] = []
    for number, group in enumerate(rule.groups.all[: len(last)]):
        if np.isfinite(last[number]):
            host = {"host": group.host_name} if "host" in rule.groups.each else {}
            begun = round(float(first[number]), 3) if np.isfinite(first[number]) else None
            told.append([{**group.attributes, **host}, begun, round(float(last[number]), 3)])
    return told


def _read(told: list[Any]) -> list[tuple[dict[str, str], float, float]]:
    return [
        ({str(k): str(v) for k, v in values.items()}, -np.inf if first is None else float(first), float(last))
        for values, first, last in told
    ]


def _again(event: Event) -> Said:
    """An event that is kept, as it was when it came."""
    attributes = json.dumps(event.attributes) if event.attributes else None
    at = nanos(instant(event.time, 0.0))
    new = NewEvent(at, event.host, SEVERITIES.index(event.severity), event.source, event.body, attributes)
    return Said(new, int(event.pattern or 0), event.id)
