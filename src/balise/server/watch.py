"""Watching: what arrives goes into every rule's windows, and each second its limits are asked."""

from __future__ import annotations

import logging
import threading
import time
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select

from balise.api.rules import Limits, RuleBody
from balise.api.spans import seconds
from balise.core import filters
from balise.core.rules.limits import LimitMachine, Transition
from balise.core.rules.windows import Windows, by_group
from balise.core.series.steps import NS, Steps
from balise.server.alerts import AlertBook, Turn, group_key
from balise.server.directory import Directory
from balise.server.metrics import Metrics, unit_of
from balise.store.series.catalogue import Catalogue, Metric
from balise.store.series.head import Batch
from balise.store.series.query import lookup_of
from balise.store.series.store import SeriesStore
from balise.store.state.store import StateStore
from balise.store.state.tables import Rule

log = logging.getLogger(__name__)
MOST_ARRIVALS = 200_000
REPLAY_SECONDS = 3600.0
REPLAY_STEP = 5.0
SLOW_EVERY = 5.0
"""Seconds between askings of rules that need a whole query: percentiles and histograms."""


@dataclass
class _Group:
    key: str
    host: int | None
    host_name: str
    attributes: dict[str, str]


LimitsOf = Callable[[str, int], Limits | None]
"""What the plans say of a rule's limits on a host; None where the rule's own hold."""


def _the_rules_own(_rule: str, _host: int) -> None:
    return None


class Watched:
    """One rule at work: its series, groups, windows and limits."""

    def __init__(
        self,
        name: str,
        body: RuleBody,
        catalogue: Catalogue,
        directory: Directory,
        metrics: Metrics,
        limits_of: LimitsOf = _the_rules_own,
    ) -> None:
        self.name = name
        self._limits_of = limits_of
        self.body = body
        self._catalogue = catalogue
        self._directory = directory
        self._metrics = metrics
        self._where = filters.parse(body.measure.where) if body.measure.where else None
        self._hosts = filters.parse(body.hosts) if body.hosts else None
        self.over = seconds(body.measure.over)
        self.below = (body.limits.warning or body.limits.critical).below is not None  # type: ignore[union-attr]
        self.numbers: dict[str, int] = {}
        self.groups: list[_Group] = []
        self._windows = Windows(self.over, body.measure.take)
        self.machine = LimitMachine(body.limits)
        self._seen = 0
        self._row_of = np.full(0, -1, np.int64)
        self._series: list[int] = []
        self._group_of: NDArray[np.int64] = np.empty(0, np.int64)
        self.slow = body.measure.take.startswith("p")
        self._slow_at = 0.0
        self._slow_values = np.empty(0)

    @property
    def metric(self) -> Metric | None:
        return self._catalogue.metrics.get(self.body.measure.metric)

    @property
    def unit(self) -> str:
        metric = self.metric
        return unit_of(metric.unit, self.body.measure.take) if metric else ""

    def find_series(self, book: AlertBook) -> None:
        """Takes up series that are new since the last time."""
        metric = self.metric
        if metric is None or len(metric.series) == self._seen:
            return
        fresh = metric.series[self._seen : len(metric.series)]
        self._seen += len(fresh)
        rows: list[int] = []
        groups: list[int] = []
        for number in fresh:
            one = self._catalogue.series[number]
            lookup = lookup_of(self._directory, one)
            if not self._directory.is_here(one.host):
                continue
            if self._hosts is not None and not filters.matches(self._hosts, lookup):
                continue
            if self._where is not None and not filters.matches(self._where, lookup):
                continue
            self.slow = self.slow or one.part != ""
            values = {name: _text(lookup(name)) for name in self.body.measure.each}
            rows.append(number)
            groups.append(self._group(values, one.host, book))
        if not rows:
            return
        self._windows.grow([self._catalogue.series[s].kind for s in rows])
        size = max(rows) + 1
        if size > len(self._row_of):
            self._row_of = np.concatenate([self._row_of, np.full(size - len(self._row_of) + 1024, -1, np.int64)])
        self._row_of[rows] = np.arange(len(self._series), len(self._series) + len(rows))
        self._series.extend(rows)
        self._group_of = np.concatenate([self._group_of, np.array(groups, np.int64)])

    def _group(self, values: dict[str, str], host: int, book: AlertBook) -> int:
        key = group_key(values)
        number = self.numbers.get(key)
        if number is None:
            number = self.numbers[key] = len(self.groups)
            named = "host" in self.body.measure.each
            name = self._directory.name(host) or ""
            attributes = {k: v for k, v in values.items() if k != "host"}
            self.groups.append(_Group(key, host if named else None, name if named else "", attributes))
            self.machine.grow(len(self.groups))
            own = self._limits_of(self.name, host) if named else None
            if own is not None:
                self.machine.set_limits(number, own)
            held = book.open.get((self.name, key))
            if held:
                self.machine.restore(number, held.level)
        return number

    def observe(self, series: NDArray[np.int64], times: NDArray[np.float64], values: NDArray[np.float64]) -> None:
        """Takes points, times in unix seconds."""
        known = series < len(self._row_of)
        rows = np.where(known, self._row_of[np.where(known, series, 0)], -1) if len(self._row_of) else None
        if rows is not None:
            mine = rows >= 0
            if mine.any():
                self._windows.observe(rows[mine], times[mine], values[mine])

    def measure(self, now: float) -> NDArray[np.float64]:
        """The value of each group now."""
        if not self.slow:
            take = self.body.measure.take
            return by_group(self._windows.measure(now), self._group_of, len(self.groups), take)
        if now - self._slow_at >= SLOW_EVERY or len(self._slow_values) != len(self.groups):
            self._slow_at = now
            self._slow_values = self._ask(now)
        return self._slow_values

    def _ask(self, now: float) -> NDArray[np.float64]:
        out = np.full(len(self.groups), np.nan)
        metric = self.metric
        if metric is None:
            return out
        width = int(self.over * NS)
        end = int(now * NS)
        measure = self.body.measure
        answer = self._metrics.engine.ask(
            metric, measure.where, Steps(end - width, width, 1), measure.take, measure.each
        )
        for named, values in zip(answer.named, answer.values, strict=True):
            number = self.numbers.get(group_key(named))
            if number is not None:
                out[number] = values[0]
        return out

    def advance(self, now: float) -> tuple[list[Transition], NDArray[np.float64]]:
        values = self.measure(now)
        return self.machine.advance(now, values), values

    def silent(self, now: float) -> NDArray[np.bool_]:
        """Groups all of whose series have stopped."""
        if not len(self.groups):
            return np.empty(0, bool)
        quiet = self._windows.silent(now)
        heard = np.bincount(self._group_of[~quiet], minlength=len(self.groups))
        return heard == 0

    def turn(self, change: Transition, value: float) -> Turn:
        group = self.groups[change.row]
        return Turn(
            rule=self.name,
            body=self.body,
            unit=self.unit,
            key=group.key,
            host=group.host,
            host_name=group.host_name,
            attributes=group.attributes,
            level=change.after,
            value=value,
            bound=self.machine.bound_of(change.after, change.row),
            since=change.since,
        )


def _text(value: object) -> str:
    if isinstance(value, list | tuple):
        return ", ".join(sorted(str(v) for v in value))
    return "" if value is None else str(value)


class Watch:
    """All rules at work. `tick` is called every second by its worker, and by tests."""

    def __init__(
        self, *, state: StateStore, store: SeriesStore, directory: Directory, metrics: Metrics, book: AlertBook
    ) -> None:
        self._state = state
        self._store = store
        self._directory = directory
        self._metrics = metrics
        self._book = book
        self._lock = threading.RLock()
        self._arrivals: deque[Batch] = deque(maxlen=MOST_ARRIVALS)
        self.rules: dict[str, Watched] = {}
        self._version = -1
        self.limits_of: LimitsOf = _the_rules_own
        self.planned: Callable[[], set[str]] = set
        """The rules whose limits some plan changes."""
        self.last_tick = 0.0
        self.dropped = 0
        store.listeners.append(self.arrived)

    def arrived(self, batches: Sequence[Batch]) -> None:
        """Called by the series store with what is durable."""
        self.dropped += max(0, len(self._arrivals) + len(batches) - MOST_ARRIVALS)
        self._arrivals.extend(batches)

    def load(self, now: float) -> None:
        """Takes up all enabled rules and plays the last hour through them, so that holds and windows go on."""
        with self._lock:
            rows = self._state.read(lambda s: list(s.scalars(select(Rule))))
            self.rules = {}
            for row in rows:
                body = RuleBody.model_validate(row.body)
                if body.enabled:
                    self.rules[row.name] = self._watched(row.name, body)
            self._replay(list(self.rules.values()), now)
            self._version = self._directory.version

    def _watched(self, name: str, body: RuleBody) -> Watched:
        made = Watched(name, body, self._store.catalogue, self._directory, self._metrics, self.limits_of)
        made.find_series(self._book)
        return made

    def change(self, name: str, body: RuleBody | None, now: float, why: str) -> None:
        """Takes up a changed rule, or lets go of one. Alerts of groups the new form still has stay open."""
        with self._lock:
            self.rules.pop(name, None)
            if body is None or not body.enabled:
                self._book.end_of_rule(name, why, now)
                return
            made = self._watched(name, body)
            keys = {group.key for group in made.groups}
            self._book.end_of_rule(name, why, now, keep=lambda key: key in keys)
            self._replay([made], now)
            self.rules[name] = made

    def plans_changed(self, rules: Sequence[str], now: float) -> None:
        """Takes up these rules again, because plans give some hosts other limits now."""
        with self._lock:
            for name in rules:
                if name in self.rules:
                    self.change(name, self.rules[name].body, now, "limits changed by a plan")

    def _replay(self, rules: list[Watched], now: float) -> None:
        """Plays recent points through rules in small steps; what changed by the end is applied once."""
        span = min(REPLAY_SECONDS, max((_memory(r.body) for r in rules), default=0.0) + 60.0)
        start = now - span
        found = self._recent(start)
        if found is None:
            return
        series, times, values = found
        at = start
        before = {rule.name: rule.machine.level.copy() for rule in rules}
        since: dict[tuple[str, int], float] = {}
        while at < now:
            end = min(at + REPLAY_STEP, now)
            lo, hi = np.searchsorted(times, [at, end])
            for rule in rules:
                rule.observe(series[lo:hi], times[lo:hi], values[lo:hi])
                if not rule.slow:
                    for change in rule.advance(end)[0]:
                        since[(rule.name, change.row)] = change.since
            at = end
        for rule in rules:
            self._settle(rule, before[rule.name], since, now)

    def _settle(self, rule: Watched, before: NDArray[np.int8], since: dict[tuple[str, int], float], now: float) -> None:
        values = rule.measure(now)
        turns = []
        for row, level in enumerate(rule.machine.level.tolist()):
            was = int(before[row]) if row < len(before) else 0
            if level != was:
                change = Transition(row, was, level, since.get((rule.name, row), now))
                turns.append(rule.turn(change, float(values[row])))
        self._book.apply(turns, now)

    def _recent(self, start: float) -> tuple[NDArray[np.int64], NDArray[np.float64], NDArray[np.float64]] | None:
        series, times, values = [], [], []
        for stripe in list(self._store.head.stripes.values()):
            rows = stripe.rows
            good = np.flatnonzero(stripe.newest_first_time()[:rows] >= start * NS)
            if not len(good):
                continue
            width = len(stripe.layout.series)
            moments = stripe.times[:rows][good]
            moments = np.repeat(moments, width) if stripe.shared_times else moments.reshape(-1)
            series.append(np.tile(stripe.layout.series, len(good)))
            times.append(moments / NS)
            values.append(stripe.values[:rows][good].reshape(-1))
        if not series:
            return None
        flat = np.concatenate(times)
        order = np.argsort(flat, kind="stable")
        return np.concatenate(series)[order], flat[order], np.concatenate(values)[order]

    def tick(self, now: float) -> int:
        """Takes in what arrived and asks every rule; answers how many groups were asked."""
        began = time.perf_counter()
        with self._lock:
            if self._directory.version != self._version:
                self._version = self._directory.version
                self._regroup(now)
            self._take_in()
            turns: list[Turn] = []
            asked = 0
            for rule in self.rules.values():
                changes, values = rule.advance(now)
                turns.extend(rule.turn(c, float(values[c.row])) for c in changes)
                asked += len(values)
            self._book.apply(turns, now)
            self._look_at_open(now)
        self.last_tick = time.perf_counter() - began
        return asked

    def _take_in(self) -> None:
        batches = [self._arrivals.popleft() for _ in range(len(self._arrivals))]
        for rule in self.rules.values():
            rule.find_series(self._book)
        if not batches:
            return
        series = np.concatenate([b.layout.series for b in batches])
        values = np.concatenate([b.values for b in batches])
        times = np.concatenate(
            [b.times if len(b.times) == len(b.values) else np.repeat(b.times, len(b.values)) for b in batches]
        )
        for rule in self.rules.values():
            rule.observe(series, times / NS, values)

    def _look_at_open(self, now: float) -> None:
        """Values and silence of the open alerts."""
        by_rule: dict[str, list[str]] = {}
        for rule, key in list(self._book.open):
            by_rule.setdefault(rule, []).append(key)
        for name, keys in by_rule.items():
            rule = self.rules.get(name)
            values = rule.measure(now) if rule else np.empty(0)
            silent = rule.silent(now) if rule else np.empty(0, bool)
            for key in keys:
                number = rule.numbers.get(key) if rule else None
                if number is None:
                    self._book.see(name, key, float("nan"), True, below=False)
                else:
                    below = rule.below if rule else False
                    self._book.see(name, key, float(values[number]), bool(silent[number]), below=below)

    def _regroup(self, now: float) -> None:
        """Hosts were added, renamed or labelled anew: rules that ask for that are taken up again."""
        for name, rule in list(self.rules.items()):
            text = f"{rule.body.hosts or ''} {rule.body.measure.where or ''} {' '.join(rule.body.measure.each)}"
            if "label." in text or "group" in text or rule.body.hosts or name in self.planned():
                self.change(name, rule.body, now, "rule changed")

    @property
    def groups(self) -> int:
        return sum(len(rule.groups) for rule in self.rules.values())


def _memory(body: RuleBody) -> float:
    """How far back a rule looks."""
    holds = [seconds(limit.hold) for limit in (body.limits.warning, body.limits.critical) if limit]
    return seconds(body.measure.over) + max(holds)
