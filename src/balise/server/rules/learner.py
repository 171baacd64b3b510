"""What rules have to know of the past: what is usual at this hour, and where things were going."""

from __future__ import annotations

import math
import time
from collections.abc import Sequence
from datetime import tzinfo

import numpy as np
from numpy.typing import NDArray

from balise.api.metrics import Take, Value
from balise.core.moments import NS
from balise.core.rules.baseline import HOUR, NEIGHBOURS, NOT_ENOUGH, hours_before, usual_of
from balise.core.rules.courses import SLOTS, Courses, Ring
from balise.core.rules.look import Usual
from balise.core.series.steps import Steps
from balise.server.metrics.questions import Metrics
from balise.server.rules.watch import Watch
from balise.server.rules.watched import Watched
from balise.store.series.blocks import parts_of
from balise.store.series.query import TooLarge

F64 = NDArray[np.float64]
TOTALS = ("count", "sum")
VARIED: tuple[Take, Take] = ("min", "max")
LATEST, REST = 60.0, 50.0
"""Seconds after which newly found groups are learnt of, and how many times as long as it took to learn of them all: as
a fleet comes for the first time there are new ones all the time."""
SETTLED = 8.0
"""Seconds without new groups after which a fleet that comes is taken to be there: a beat of the rules may take some."""
STEPS_A_SLOT = 4
MANY = 20_000
"""Groups beyond which history is looked at in as few steps as will do."""
AT_ONCE = 3_000_000
"""Numbers that are asked for at once."""
MOST_HELD = 20_000_000
"""Numbers that are held of one metric of a rule: 5,000 groups for eight weeks, twice over."""
LATELY = 900.0
"""Seconds after which the past is looked at again."""


class History:
    """What groups of a rule measured in steps of the past."""

    def __init__(self, metrics: Metrics) -> None:
        self._metrics = metrics

    def of(self, rule: Watched, steps: Steps, take: Take | None = None, groups: int | None = None) -> F64:
        """Values [groups, steps], of as many groups as there are or are asked for; `take` instead of the rule's own.
        Raises TooLarge."""
        count = len(rule.groups) if groups is None else groups
        parts = {name: self.part(rule, feed.value, steps, take, count) for name, feed in rule.feeds.items()}
        return rule.combined(parts)

    def means(self, rule: Watched, steps: Steps) -> F64:
        """Values [groups, steps] as they were over each step, not at its end. Raises TooLarge."""
        count = len(rule.groups)
        parts = {}
        for name, feed in rule.feeds.items():
            over: Take = "avg" if feed.value.take == "last" else feed.value.take
            parts[name] = self.part(rule, feed.value, steps, over, count)
        return rule.combined(parts)

    def part(
        self, rule: Watched, value: Value, steps: Steps, take: Take | None = None, groups: int | None = None
    ) -> F64:
        """Of one of the rule's metrics the values [groups, steps], of as many groups as there are or are asked for.
        Raises TooLarge."""
        count = len(rule.groups) if groups is None else groups
        out = np.full((count, steps.count), np.nan)
        metric = self._metrics.metric(value.metric)
        how = take or value.take
        if metric is None or how == "change":
            return out
        if count * steps.count > MOST_HELD:
            raise TooLarge(f"{count:,} groups over {steps.count:,} steps are too much to look at: take a shorter span")
        # A fleet that has just come has been nowhere in most of the past.
        first = self._metrics.engine.first_step(metric, steps)
        where = joined(rule.body.hosts, value.where)
        # One question is answered with no more than a few million numbers: it is asked in parts.
        for at, part in parts_of(steps, first, max(1, AT_ONCE // max(1, count))):
            answer = self._metrics.engine.ask(metric, where, part, how, rule.groups.each)
            if answer.steps.width != part.width or answer.steps.start != part.start:
                continue
            # Of hosts that came lately there is nothing in most of the past.
            for place in np.flatnonzero(~np.isnan(answer.values).all(axis=1)).tolist():
                number = rule.groups.find(answer.named[place])
                if number is not None and number < count:
                    out[number, at] = answer.values[place]
        return out


def joined(hosts: str | None, where: str | None) -> str | None:
    """Both filters together; what is asked of hosts is asked of the hosts of series."""
    if hosts and where:
        return f"({hosts}) and ({where})"
    return hosts or where


class Learner:
    """Learns in the background what rules ask. `zone` is where the hours of the week are those on the wall."""

    def __init__(self, *, watch: Watch, history: History, zone: tzinfo) -> None:
        self._watch = watch
        self._history = history
        self._zone = zone
        self._learnt: dict[str, tuple[int, int, float]] = {}
        """By rule: which hour, of how many groups, and when."""
        self._filled: dict[str, tuple[int, float]] = {}
        self._coming: dict[str, tuple[int, float, float]] = {}
        """By rule that was never learnt of: how many groups it had at the last pass, when it was seen first, and when
        it was seen to have more."""
        self._took: dict[str, float] = {}
        """Seconds of the processor that it took to learn of a rule's groups."""

    def forget(self, name: str) -> None:
        """A rule is another now, or gone."""
        self._learnt.pop(name, None)
        self._filled.pop(name, None)
        self._coming.pop(name, None)
        self._took.pop(name, None)

    def work(self, now: float | None = None) -> None:
        """Learns what is due."""
        at = time.time() if now is None else now
        for rule in list(self._watch.rules.values()):
            try:
                if rule.kind == "unusual" and rule.feeds:
                    self._learn_usual(rule, at)
                elif rule.courses:
                    self._fill(rule, at)
            except TooLarge as error:
                self._watch.problems[rule.name] = f"its history cannot be looked at: {error}"
                self._learnt[rule.name] = (int(at // HOUR * HOUR), len(rule.groups), at)

    # --- what is usual

    def _learn_usual(self, rule: Watched, now: float) -> None:
        hour, groups = int(now // HOUR * HOUR), len(rule.groups)
        held = self._learnt.get(rule.name)
        if held is not None and held[0] == hour and (held[1] == groups or now - held[2] < self._rest_of(rule)):
            return
        if not groups or (held is None and self._still_come(rule, now)):
            return
        began = time.thread_time()
        usual = self.usual(rule, hour)
        self._took[rule.name] = time.thread_time() - began
        rule.usual = (hour, usual)
        known = int((~np.isnan(usual.middle[:, NEIGHBOURS])).sum())
        rule.note = (
            "" if known == groups else NOT_ENOUGH if not known else f"{groups - known} of {groups}: {NOT_ENOUGH}"
        )
        self._learnt[rule.name] = (hour, groups, now)

    def usual(self, rule: Watched, hour: int) -> Usual:
        """What is usual in an hour and those beside it [groups, neighbours]."""
        wanted = np.array(hours_before(hour, self._zone))
        values, within = self._hours(rule, wanted)
        return usual_of(values, within)

    def _hours(self, rule: Watched, wanted: NDArray[np.int64]) -> tuple[F64, F64]:
        """What was in each of some hours, and by how much it varied inside; [groups, weeks, neighbours]."""
        groups = len(rule.groups)
        values = np.full((groups, *wanted.shape), np.nan)
        within = np.full((groups, *wanted.shape), np.nan)
        for week, hours in enumerate(wanted.tolist()):
            first, last = min(hours), max(hours)
            steps = Steps(first * NS, HOUR * NS, (last - first) // HOUR + 1)
            line, varied = self.by_hour(rule, steps, groups)
            places = [(hour - first) // HOUR for hour in hours]
            values[:, week], within[:, week] = line[:, places], varied[:, places]
        return values, within

    def by_hour(self, rule: Watched, steps: Steps, groups: int | None = None) -> tuple[F64, F64]:
        """What was in each hour of a span, and by how much it varied inside; [groups, hours]."""
        # Others may come meanwhile.
        count = len(rule.groups) if groups is None else groups
        values = self._history.of(rule, steps, groups=count)
        takes = {feed.value.take for feed in rule.feeds.values()}
        if takes & set(TOTALS):
            values = values * (rule.over / HOUR)
            return values, np.sqrt(np.maximum(values, 0.0)) * 6
        if takes <= {"avg", "last", "min", "max"} and len(rule.feeds) == 1:
            low, high = (self._history.of(rule, steps, take, count) for take in VARIED)
            return values, high - low
        return values, np.full(values.shape, np.nan)

    # --- where things were going

    def _fill(self, rule: Watched, now: float) -> None:
        groups = len(rule.groups)
        filled, then = self._filled.get(rule.name, (0, 0.0))
        # What came late since is found in the store as well.
        if not groups or (now - then < LATELY if groups == filled else now - then < self._rest_of(rule) and filled):
            return
        if not filled and self._still_come(rule, now):
            return
        began = time.thread_time()
        for courses in rule.courses.values():
            found = [(ring, *samples(ring, self._history, rule, now)) for ring in (courses.far, courses.near)]
            with self._watch.lock:
                put_in(courses, found)
        self._took[rule.name] = time.thread_time() - began
        self._filled[rule.name] = (groups, now)

    def _still_come(self, rule: Watched, now: float) -> bool:
        """Whether a rule that was never learnt of had fewer groups lately: a fleet that comes is learnt of when it is
        there, or after a while."""
        groups = len(rule.groups)
        seen, since, grew = self._coming.get(rule.name, (0, now, now))
        grew = now if groups != seen else grew
        self._coming[rule.name] = (groups, since, grew)
        return now - grew < SETTLED and now - since < LATEST

    def _rest_of(self, rule: Watched) -> float:
        return max(LATEST, REST * self._took.get(rule.name, 0.0))


def fill(courses: Courses, history: History, rule: Watched, now: float) -> None:
    """Puts what is stored into the rings of a rule that is not at work."""
    put_in(courses, [(ring, *samples(ring, history, rule, now)) for ring in (courses.far, courses.near)])


def put_in(courses: Courses, found: Sequence[tuple[Ring, NDArray[np.int64], F64]]) -> None:
    """Puts samples into their rings, and has all trends be looked at again."""
    for ring, slots, values in found:
        ring.fill(np.arange(min(len(values), len(courses))), slots, values[: len(courses)])
    courses.renew()


def samples(ring: Ring, history: History, rule: Watched, now: float) -> tuple[NDArray[np.int64], F64]:
    """What groups were in each of the last slots of a ring, by what the store has; slots, and [groups, slots]."""
    newest = ring.slot_of(now)
    slots = np.arange(newest - SLOTS + 1, newest)
    start = (newest - SLOTS + 1) * ring.width
    # A slot has several steps, as one alone would be half of another slot's.
    step = _step(ring.width / (STEPS_A_SLOT if len(rule.groups) <= MANY else 1))
    first = math.floor(start / step) * step
    steps = Steps(int(first * NS), int(step * NS), math.ceil((now - first) / step))
    found = history.means(rule, steps)
    middles = first + (np.arange(steps.count) + 0.5) * step
    of = (middles // ring.width).astype(np.int64) - slots[0]
    inside = (of >= 0) & (of < len(slots))
    out = np.full((len(found), len(slots)), np.nan)
    some = np.flatnonzero(inside & ~np.isnan(found).all(axis=0))
    if len(some):
        # Steps of one slot are beside each other.
        edges = np.flatnonzero(np.diff(of[some], prepend=-1))
        part = found[:, some]
        known = ~np.isnan(part)
        total = np.add.reduceat(np.where(known, part, 0.0), edges, axis=1)
        with np.errstate(invalid="ignore"):
            out[:, of[some[edges]]] = total / np.add.reduceat(known.astype(np.float64), edges, axis=1)
    return slots, out


def _step(width: float) -> float:
    """The widest step that tiers have and that is not wider than that; seconds."""
    for step in (86400.0, 21600.0, 3600.0, 1800.0, 900.0, 300.0, 60.0, 30.0):
        if step <= width:
            return step
    return 15.0
