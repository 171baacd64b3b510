"""A rule over what is stored: what is known of its groups, moment by moment."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import tzinfo

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import or_, select

from balise.core.moments import NS, nanos, seconds_of
from balise.core.quantities import in_words
from balise.core.rules.baseline import HOUR, WEEKS, at_moment, hours_before, usual_of
from balise.core.rules.look import Look, Usual
from balise.core.rules.rehearsal import Arrivals, Part, play_together
from balise.core.series.growth import MAX_GAP
from balise.core.series.steps import Steps
from balise.server.alerts.answers import alert_facts, service_of
from balise.server.errors import bad_field
from balise.server.hosts.clocks import Clocks
from balise.server.rules.learner import History, Learner, fill
from balise.server.rules.listening import Past
from balise.server.rules.series_feed import SeriesFeed, padded
from balise.server.rules.watch import Watch
from balise.server.rules.watched import Watched
from balise.store.series.query import TooLarge
from balise.store.series.store import SeriesStore
from balise.store.state.store import StateStore
from balise.store.state.tables import Alert

F64 = NDArray[np.float64]
STEPS = (1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 1800, 3600)
MOST_MOMENTS = 6000
MOST_POINTS = 12_000_000
MOST_ASKED = 60_000_000
"""How many groups times moments."""
POINTS_AT_ONCE = 500_000
MOST_BY_STEPS = 10_000_000
"""How many groups times steps, of each metric; beyond it steps are wider."""
MOST_TRENDS = 150_000
"""How many groups times looks at where they go; with more groups it is looked less often."""
EXACT = 2 * 86_400.0
"""Spans up to so many seconds are played point by point, if there are not too many."""
MOST_ALERTS = 20_000


@dataclass
class Played:
    """How a rule is played: at moments `step` seconds apart, with what could not be known."""

    step: float = 1.0
    notes: list[str] = field(default_factory=list)


class Playing:
    """Plays rules. `zone` is where the hours of the week are those on the wall."""

    def __init__(
        self,
        *,
        watch: Watch,
        store: SeriesStore,
        state: StateStore,
        history: History,
        learner: Learner,
        past: Past,
        clocks: Clocks,
        zone: tzinfo,
    ) -> None:
        self._watch = watch
        self._store = store
        self._state = state
        self._history = history
        self._learner = learner
        self._past = past
        self._clocks = clocks
        self._zone = zone

    def play(self, rule: Watched, start: float, end: float, how: Played) -> Iterator[tuple[float, Look]]:
        """What is known of all groups at moments of [start, end), unix seconds, in order.

        Raises Refused 422 naming the field when it would be too much. `how` is filled in at the first moment.
        """
        if rule.events is not None:
            yield from self._of_events(rule, start, end, how)
        elif rule.alerts is not None:
            yield from self._of_alerts(rule, start, end, how)
        elif rule.kind in ("missing_for", "first_seen"):
            yield from self._of_heard(rule, start, end, how)
        elif rule.kind == "unusual":
            yield from self._of_unusual(rule, start, end, how)
        elif rule.courses:
            yield from self._of_courses(rule, start, end, how)
        else:
            for at, values in self._values(rule, start, end, how):
                yield at, Look(values)

    # --- values of series

    def _values(self, rule: Watched, start: float, end: float, how: Played) -> Iterator[tuple[float, F64]]:
        """With the very windows that are at work as far back as single points are kept and are not too many; else by
        the steps that are left."""
        short = _step_for(start, end)
        kept = start * NS >= self._store.kept_since("raw")
        if kept and (end - start <= EXACT or "change" in _takes(rule)) and self._few(rule, start, end, short):
            how.step = short
            yield from self._by_points(rule, start, end, short)
        else:
            yield from self._by_steps(rule, start, end, how)

    def _few(self, rule: Watched, start: float, end: float, step: float) -> bool:
        if len(rule.groups) * (end - start) / step > MOST_ASKED:
            return False
        return sum(self._count(rule, feed, start, end) for feed in rule) <= MOST_POINTS

    def _count(self, rule: Watched, feed: SeriesFeed, start: float, end: float) -> int:
        if not feed.series:
            return 0
        return int(self._store.reader.count(feed.series, nanos(self._reach(rule, feed, start)), nanos(end)).sum())

    @staticmethod
    def _reach(rule: Watched, feed: SeriesFeed, start: float) -> float:
        return start - rule.over - (seconds_of(MAX_GAP) if feed.measuring.windows.growing else 0.0)

    def _by_points(self, rule: Watched, start: float, end: float, step: float) -> Iterator[tuple[float, F64]]:
        moments = np.arange(start, end, step)
        points = sum(self._count(rule, feed, start, end) for feed in rule)
        at_once = max(1, int(len(moments) * POINTS_AT_ONCE / max(1, points)))
        reached = {name: self._reach(rule, feed, start) for name, feed in rule.feeds.items()}
        for at in range(0, len(moments), at_once):
            part = moments[at : at + at_once]
            parts = {}
            for name, feed in rule.feeds.items():
                behind = np.broadcast_to(self._clocks.behind_of(feed.hosts), len(feed.series))
                found = self._arrived(feed, behind, reached[name], float(part[-1]))
                parts[name] = Part(feed.measuring, found, behind)
                reached[name] = float(part[-1])
            for moment, values in play_together(parts, part):
                yield moment, rule.combined({k: padded(v, len(rule.groups)) for k, v in values.items()})

    def _arrived(self, feed: SeriesFeed, behind: F64, after: float, until: float) -> Arrivals:
        """The points that would have come after one moment and until another."""
        low, high = (float(behind.min()), float(behind.max())) if len(behind) else (0.0, 0.0)
        rows, moments, values = self._store.reader.since(feed.series, nanos(after - high), nanos(until - low) + 1)
        times = moments / NS
        came = times + behind[rows] if len(rows) else times
        mine = (came > after) & (came <= until)
        return Arrivals(rows[mine], times[mine], values[mine])

    def _by_steps(self, rule: Watched, start: float, end: float, how: Played) -> Iterator[tuple[float, F64]]:
        if "change" in _takes(rule):
            raise bad_field("from", "a change is worked out from single points, of which there are too many: take less")
        steps_most = max(1, min(2880, MOST_BY_STEPS // max(1, len(rule.groups))))
        least = 300.0 if start * NS >= self._store.kept_since("5m") else 3600.0
        width = max(least, math.ceil((end - start) / steps_most / least) * least)
        steps = Steps(int(start // width * width) * NS, int(width) * NS, max(1, int((end - start) // width)))
        how.step = width
        often = in_words(width, "s")
        how.notes.append(f"looked at every {often}, by what is kept of so long ago: what was shorter is not seen")
        window = max(1, round(rule.over / width))
        parts = {}
        for name, feed in rule.feeds.items():
            try:
                found = self._history.part(rule, feed.value, steps)
            except TooLarge as error:
                raise bad_field("from", str(error)) from None
            parts[name] = smoothed(found, window, feed.value.take)
        values = rule.combined(parts)
        for step in range(steps.count):
            yield steps.start / NS + (step + 1) * width, values[:, step]

    # --- what is usual, and where it goes

    def _of_unusual(self, rule: Watched, start: float, end: float, how: Played) -> Iterator[tuple[float, Look]]:
        first = math.floor(start / HOUR) * HOUR - (WEEKS * 7 * 24 + 4) * HOUR
        steps = Steps(first * NS, HOUR * NS, int((end - first) // HOUR) + 4)
        try:
            line, varied = self._learner.by_hour(rule, steps)
        except TooLarge as error:
            raise bad_field("from", f"what is usual would be learnt from too much: {error}") from None
        usual: Usual | None = None
        of_hour = -1
        for at, values in self._values(rule, start, end, how):
            hour = int(at // HOUR * HOUR)
            if hour != of_hour:
                places = (np.array(hours_before(hour, self._zone)) - first) // HOUR
                usual, of_hour = usual_of(*(taken(one, places) for one in (line, varied))), hour
            yield at, Look(values, usual=at_moment(usual, (at - hour) / HOUR) if usual is not None else None)

    def _of_courses(self, rule: Watched, start: float, end: float, how: Played) -> Iterator[tuple[float, Look]]:
        for courses in rule.courses.values():
            courses.rests = (end - start) * len(rule.groups) / MOST_TRENDS
            try:
                fill(courses, self._history, rule, start)
            except TooLarge as error:
                raise bad_field("from", str(error)) from None
        for at, values in self._values(rule, start, end, how):
            yield at, Look(values, courses=rule.courses_at(at, values))

    # --- what was heard

    def _of_heard(self, rule: Watched, start: float, end: float, how: Played) -> Iterator[tuple[float, Look]]:
        how.step = _step_for(start, end)
        moments = np.arange(start, end, how.step)
        groups, times = self._heard(rule, start - rule.looks_back, end, how)
        order = np.argsort(times, kind="stable")
        groups, times = groups[order], times[order]
        before = int(np.searchsorted(times, start))
        rule.heard.know(groups[:before], times[:before])
        ends = np.searchsorted(times, moments, side="right")
        begin = before
        nothing = np.full(len(rule.groups), np.nan)
        for at, stop in zip(moments.tolist(), ends.tolist(), strict=True):
            rule.heard.note(groups[begin:stop], times[begin:stop])
            begin = max(begin, stop)
            yield at, Look(nothing, quiet=rule.heard.quiet(at), fresh=rule.heard.fresh(at))

    def _heard(self, rule: Watched, start: float, end: float, how: Played) -> tuple[NDArray[np.int64], F64]:
        """When groups were heard: by points where they are few, else to the hour."""
        found: list[tuple[NDArray[np.int64], F64]] = []
        for feed in rule:
            if not feed.series:
                continue
            kept = max(nanos(start), self._store.kept_since("raw"))
            if int(self._store.reader.count(feed.series, kept, nanos(end)).sum()) <= MOST_POINTS // 4:
                rows, moments, _ = self._store.reader.since(feed.series, kept, nanos(end))
                found.append((feed.measuring.group_of[rows], moments / NS))
            else:
                first = math.floor(start / 300) * 300
                width = 300 if (end - first) / 300 <= 9000 else HOUR
                steps = Steps(first * NS, width * NS, int((end - first) // width) + 1)
                counts = self._history.part(rule, feed.value, steps, "count")
                rows, places = np.nonzero(counts > 0)
                found.append((rows.astype(np.int64), np.asarray(first + (places + 1.0) * width, np.float64)))
                how.notes.append(f"when things were heard is known to {width // 60} minutes only")
        if not found:
            return np.empty(0, np.int64), np.empty(0)
        groups, times = (np.concatenate(column) for column in zip(*found, strict=True))
        return groups[groups >= 0], times[groups >= 0]

    # --- events and alerts

    def _of_events(self, rule: Watched, start: float, end: float, how: Played) -> Iterator[tuple[float, Look]]:
        if rule.events is None:
            return
        how.step = _step_for(start, end)
        found, note = self._past.of(rule.body, start - rule.looks_back, end)
        if note:
            how.notes.append(note)
        found.sort(key=lambda one: one.at)
        times = np.array([one.at for one in found])
        begin = int(np.searchsorted(times, start))
        rule.events.learn(found[:begin], [])
        if rule.body.measure.pattern == "more":
            rule.events.compare(self._past.usual(rule.body, start))
            how.notes.append("what is usual of patterns is that of the beginning of the span")
        moments = np.arange(start, end, how.step)
        for at, stop in zip(moments.tolist(), np.searchsorted(times, moments, side="right").tolist(), strict=True):
            rule.events.hand_over(found[begin:stop])
            begin = max(begin, stop)
            yield at, rule.look(at, lambda _hosts: 0.0)

    def _of_alerts(self, rule: Watched, start: float, end: float, how: Played) -> Iterator[tuple[float, Look]]:
        """From the alerts that there were; what they are now is what they are asked for."""
        if rule.alerts is None:
            return
        how.step = _step_for(start, end)
        when = Alert.opened_at < end, or_(Alert.recovered_at.is_(None), Alert.recovered_at >= start)
        rows = self._state.read(lambda s: list(s.scalars(select(Alert).where(*when).limit(MOST_ALERTS))))
        if len(rows) == MOST_ALERTS:
            raise bad_field("from", f"there are more than {MOST_ALERTS} alerts in the span: take a shorter one")
        # Each alert is compared once, and counts from when it opened to when it recovered.
        turns: list[tuple[float, int, int]] = []
        for row in rows:
            facts = {**alert_facts(row), "state": "open"}
            for group in rule.alerts.groups_of(self._watch.alert_lookup(facts, row.host, service_of(row))):
                turns += [(row.opened_at, group, 1), (row.recovered_at or math.inf, group, -1)]
        turns.sort()
        rule.settle_groups()
        values, next_ = np.zeros(len(rule.groups)), 0
        for at in np.arange(start, end, how.step).tolist():
            while next_ < len(turns) and turns[next_][0] <= at:
                values[turns[next_][1]] += turns[next_][2]
                next_ += 1
            yield at, Look(values.copy())


def _step_for(start: float, end: float) -> float:
    """Seconds between the moments at which a span is looked at."""
    return float(next((step for step in STEPS if (end - start) / step <= MOST_MOMENTS), STEPS[-1]))


def _takes(rule: Watched) -> set[str]:
    return {feed.value.take for feed in rule}


def taken(line: F64, places: NDArray[np.int64]) -> F64:
    """Of [groups, hours] some places, NaN for those that are not there; [groups, *places]."""
    inside = (places >= 0) & (places < line.shape[1])
    found = line[:, np.where(inside, places, 0)]
    if not inside.all():
        found[:, ~inside] = np.nan
    return found


def smoothed(values: F64, steps: int, take: str) -> F64:
    """Values over the last `steps` steps; for `last` the newest of them carries on over gaps."""
    if steps <= 1:
        return values
    out = values.copy()
    for i in range(values.shape[1]):
        window = values[:, max(0, i - steps + 1) : i + 1]
        with np.errstate(all="ignore"):
            if take == "last":
                some = ~np.isnan(window)
                newest = window.shape[1] - 1 - np.argmax(some[:, ::-1], axis=1)
                out[:, i] = window[np.arange(len(window)), newest]
            elif take == "min":
                out[:, i] = np.fmin.reduce(window, axis=1)
            elif take == "max":
                out[:, i] = np.fmax.reduce(window, axis=1)
            else:
                known = ~np.isnan(window)
                total = np.where(known, window, 0.0).sum(axis=1)
                out[:, i] = np.where(known.any(axis=1), total / np.maximum(known.sum(axis=1), 1), np.nan)
    return out
