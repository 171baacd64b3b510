"""Watching: what arrives goes into every rule's windows, and each second its limits are asked."""

from __future__ import annotations

import logging
import threading
import time
from collections import deque
from collections.abc import Callable, Iterable, Sequence
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.exc import OperationalError

from balise.api.rules import RuleBody
from balise.core.moments import NS, nanos, seconds_of
from balise.core.rules.limits import LimitMachine, Transition
from balise.core.rules.measuring import Measuring, Row
from balise.core.rules.rehearsal import Arrivals, play
from balise.core.series.growth import MAX_GAP
from balise.server.alerts.book import AlertBook, Turn
from balise.server.hosts.clocks import Clocks
from balise.server.hosts.directory import Directory
from balise.server.plans.held import HeldPlans
from balise.server.rules.holds import HoldBook
from balise.server.rules.watched import Watched
from balise.store.series.head import Batch
from balise.store.series.store import SeriesStore
from balise.store.state.store import StateStore
from balise.store.state.tables import Rule

log = logging.getLogger(__name__)
T = TypeVar("T")
F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
MOST_ARRIVALS = 200_000
PLAYED_MOMENTS = 900
"""Moments at which the past is looked at to learn since when something is breached."""
PUT_OFF = 30.0
"""Seconds before an alert that cannot be written is tried again."""


class Watch:
    """All rules at work. `tick` is called every second by its worker, and by tests."""

    def __init__(
        self,
        *,
        state: StateStore,
        store: SeriesStore,
        directory: Directory,
        clocks: Clocks,
        alerts: AlertBook,
        plans: HeldPlans,
    ) -> None:
        self._state = state
        self._store = store
        self._directory = directory
        self._clocks = clocks
        self._alerts = alerts
        self._plans = plans
        self._holds = HoldBook(state)
        self._lock = threading.RLock()
        self._arrivals: deque[Batch] = deque(maxlen=MOST_ARRIVALS)
        self.rules: dict[str, Watched] = {}
        self._version = -1
        self.last_tick = 0.0
        self.dropped = 0
        self._refill = False
        self._stale: set[str] = set()
        """Rules whose windows missed something."""
        self.problems: dict[str, str] = {}
        """Rules that cannot be checked, and why."""
        self._put_off: dict[tuple[str, str], float] = {}
        self._ended: dict[str, list[str]] = {}
        """By rule the keys of groups that are gone, whose alerts have to end."""
        store.listeners.append(self.arrived)

    def warnings(self, _now: float) -> list[str]:
        return [f"the rule {name} cannot be checked: {why}" for name, why in sorted(self.problems.items())]

    def arrived(self, batches: Sequence[Batch]) -> None:
        """Called by the series store with what is durable."""
        lost = max(0, len(self._arrivals) + len(batches) - MOST_ARRIVALS)
        if lost:
            # Nothing is missing in the store: windows are filled from there at the next tick.
            self.dropped += lost
            self._refill = True
        self._arrivals.extend(batches)

    # --- which rules

    def load(self, now: float) -> None:
        """Takes up all enabled rules: windows are filled from the store, holds and levels go on from what is kept."""
        with self._lock:
            rows = self._state.read(lambda s: list(s.scalars(select(Rule))))
            kept = self._holds.read()
            self._version = self._directory.version
            self.rules = {}
            for row in rows:
                body = RuleBody.model_validate(row.body)
                if body.enabled:
                    self.rules[row.name] = self._taken_up(row.name, body, now)
                    if row.name in kept:
                        self.rules[row.name].resume(kept[row.name])
                    else:
                        self._play_past(self.rules[row.name], now)

    def _taken_up(self, name: str, body: RuleBody, now: float) -> Watched:
        made = Watched(
            name, body, catalogue=self._store.catalogue, directory=self._directory, limits_of=self._plans.limits_of
        )
        self._fill(made, made.find_series(), now)
        self._restore(made, range(len(made.groups)))
        return made

    def _restore(self, rule: Watched, groups: Iterable[int]) -> None:
        """Groups whose alerts are open are at the levels that are written."""
        for number in groups:
            held = self._alerts.open.get((rule.name, rule.groups[number].key))
            if held is not None and not rule.machine.level[number]:
                rule.machine.restore(number, held.level)

    def _fill(self, rule: Watched, series: Sequence[int], now: float) -> None:
        """Puts what the store has into the windows of these series."""
        if not series:
            return
        found = self._stored(rule, series, now - rule.over)
        rule.observe(np.array(series, np.int64)[found.rows], found.times, found.values, now)

    def _stored(self, rule: Watched, series: Sequence[int], start: float) -> Arrivals:
        """The points of some series from `start` on, by their own clocks, and what growth before that needs."""
        rows, times, values = self._store.reader.since(series, nanos(self._reach(rule, start)))
        return Arrivals(rows, times / NS, values)

    def _reach(self, rule: Watched, start: float) -> float:
        """From when on points are needed to know what was from `start` on."""
        reach = start - float(np.max(self._behind(rule), initial=0.0))
        return reach - seconds_of(MAX_GAP) if rule.measuring.windows.growing else reach

    def _behind(self, rule: Watched) -> F64 | float:
        return self._clocks.behind_of(rule.hosts)

    def _play_past(self, rule: Watched, now: float) -> None:
        """Learns from stored points since when things are breached."""
        hold = max(rule.holds, default=0.0)
        if hold <= 0 or not rule.series:
            return
        measuring = Measuring(rule.body.measure.take, rule.over)
        parts = [self._store.catalogue.series[number] for number in rule.series]
        groups = rule.measuring.group_of.tolist()
        measuring.add([Row(s.kind, g, s.part, (s.host, s.attributes)) for s, g in zip(parts, groups, strict=True)])
        behind = np.broadcast_to(self._behind(rule), len(parts))
        step = max(1.0, hold / PLAYED_MOMENTS)
        start = now - hold - 2 * step
        moments = np.arange(start, now, step)
        machine = LimitMachine(rule.body.limits, len(rule.groups))
        for number, group in enumerate(rule.groups):
            own = self._plans.limits_of(rule.name, group.host) if group.host is not None else None
            if own is not None:
                machine.set_limits(number, own)
        found = self._stored(rule, rule.series, start - rule.over)
        for at, values in play(measuring, found, moments, behind):
            machine.propose(at, values)
        for row in range(len(rule.groups)):
            rule.machine.resume(row, machine.breaches_of(row))

    def change(self, name: str, body: RuleBody | None, now: float, why: str) -> None:
        """Takes up a changed rule, or lets go of one. Alerts of groups the new form still has stay open."""
        with self._lock:
            self.problems.pop(name, None)
            if body is None or not body.enabled:
                self.rules.pop(name, None)
                self._holds.forget(name)
                self._alerts.end_of_rule(name, why, now)
                return
            self._ended.pop(name, None)
            made = self._taken_up(name, body, now)
            self._play_past(made, now)
            self._holds.touch(name)
            self._alerts.end_of_rule(name, why, now, keep=lambda key: key in made.numbers)
            self.rules[name] = made

    def plans_changed(self, rules: Sequence[str], now: float) -> None:
        """Plans give some hosts other limits of these rules now; what windows hold goes on."""
        with self._lock:
            for name in rules:
                if name in self.rules:
                    self.rules[name].relimit()
                    self._play_past(self.rules[name], now)
                    self._holds.touch(name)

    def _follow_hosts(self, now: float) -> None:
        """Hosts were added, renamed, labelled anew or retired: rules look at other series, and keep the rest."""
        version = self._directory.version
        if version == self._version:
            return
        changed = self._directory.changed_since(self._version)
        added: dict[str, list[int]] = {}
        for rule in self.rules.values():
            added[rule.name] = (
                self._guarded(rule, lambda rule=rule: self._follow(rule, changed, now))  # type: ignore[misc]
                or []
            )
        self._version = version
        fresh = {name: series for name, series in added.items() if series}
        # Until their windows are filled, these rules have missed something.
        self._stale.update(fresh)
        self._fill_together(fresh, now)
        self._stale.difference_update(set(fresh) - set(self.problems))

    def _follow(self, rule: Watched, changed: set[int], now: float) -> list[int]:
        """The series that a rule has taken up."""
        followed = rule.follow(changed)
        self._restore(rule, followed.entered)
        if followed.gone:
            self._ended.setdefault(rule.name, []).extend(followed.gone)
        return followed.added

    def _end_gone(self, now: float) -> None:
        """Ends the alerts of groups that are gone; what could not be written is tried again at the next tick."""
        for name, keys in list(self._ended.items()):
            rule = self.rules.get(name)
            gone = [key for key in keys if rule is not None and not rule.groups[rule.numbers[key]].rows]
            self._alerts.end_of_groups(name, gone, "no longer looked at", now)
            del self._ended[name]

    def _fill_together(self, added: dict[str, list[int]], now: float) -> None:
        """Puts what the store has of new series into the windows of several rules, with one question."""
        if not added:
            return
        rules = [self.rules[name] for name in added]
        series = list(dict.fromkeys(number for numbers in added.values() for number in numbers))
        rows, times, values = self._store.reader.since(series, nanos(min(self._reach(r, now - r.over) for r in rules)))
        found = np.array(series, np.int64)[rows]
        order = np.lexsort((times, found))
        found, at, values = found[order], times[order] / NS, values[order]
        for rule in rules:
            mine = np.sort(added[rule.name])
            lo, hi = np.searchsorted(found, mine), np.searchsorted(found, mine, side="right")
            pick = np.repeat(lo - np.cumsum(hi - lo) + (hi - lo), hi - lo) + np.arange((hi - lo).sum())
            self._guarded(
                rule,
                lambda rule=rule, pick=pick: rule.observe(found[pick], at[pick], values[pick], now),  # type: ignore[misc]
            )

    def _guarded(self, rule: Watched, step: Callable[[], T]) -> T | None:
        """One rule that fails must not blind the others. It is told, and its windows are filled anew."""
        try:
            return step()
        except OperationalError:
            raise
        except Exception as error:
            if rule.name not in self.problems:
                log.exception("rule=%s cannot be checked", rule.name)
            self.problems[rule.name] = f"{type(error).__name__}: {error}"[:200]
            self._stale.add(rule.name)
            return None

    # --- every second

    def tick(self, now: float) -> int:
        """Takes in what arrived and asks every rule; answers how many groups were asked."""
        began = time.perf_counter()
        with self._lock:
            self._follow_hosts(now)
            self._end_gone(now)
            self._take_in(now)
            values: dict[str, F64] = {}
            proposed: list[tuple[Watched, Transition, Turn]] = []
            for rule in self.rules.values():
                found = self._guarded(rule, lambda rule=rule: rule.propose(now, self._behind(rule)))  # type: ignore[misc]
                if found is not None:
                    self.problems.pop(rule.name, None)
                    changes, values[rule.name] = found
                    proposed += [(rule, c, rule.turn(c, float(values[rule.name][c.row]))) for c in changes]
            self._write(proposed, now)
            self._look_at_open(values, now)
        self.last_tick = time.perf_counter() - began
        return sum(len(found) for found in values.values())

    def _write(self, proposed: Sequence[tuple[Watched, Transition, Turn]], now: float) -> None:
        """Levels change when they are written: what could not be is proposed again."""
        self._put_off = {key: at for key, at in self._put_off.items() if at > now}
        due = [p for p in proposed if (p[2].rule, p[2].key) not in self._put_off]
        written = {id(turn) for turn in self._alerts.apply([turn for _, _, turn in due], now)}
        for rule, change, turn in due:
            if id(turn) in written:
                rule.machine.settle(change)
            else:
                self._put_off[(turn.rule, turn.key)] = now + PUT_OFF

    def _take_in(self, now: float) -> None:
        batches = [self._arrivals.popleft() for _ in range(len(self._arrivals))]
        if self._refill:
            self._refill = False
            self._stale.update(self.rules)
        for rule in self.rules.values():
            self._guarded(rule, lambda rule=rule: self._find(rule, now))  # type: ignore[misc]
        if not batches:
            return
        series = np.concatenate([b.layout.series for b in batches])
        values = np.concatenate([b.values for b in batches])
        times = np.concatenate(
            [b.times if len(b.times) == len(b.values) else np.repeat(b.times, len(b.values)) for b in batches]
        )
        # In order once for all rules: each then finds its own in order.
        order = np.lexsort((times, series))
        series, values, times = series[order], values[order], times[order] / NS
        for rule in self.rules.values():
            self._guarded(rule, lambda rule=rule: rule.observe(series, times, values, now))  # type: ignore[misc]

    def _find(self, rule: Watched, now: float) -> None:
        """Takes up new series, and fills windows that missed something."""
        if added := rule.find_series():
            self._restore(rule, rule.groups_of(added))
        if rule.name in self._stale:
            self._fill(rule, rule.series, now)
            self._stale.discard(rule.name)

    def _look_at_open(self, values: dict[str, F64], now: float) -> None:
        """Values and silence of the open alerts."""
        by_rule: dict[str, list[str]] = {}
        for name, key in list(self._alerts.open):
            by_rule.setdefault(name, []).append(key)
        for name, keys in by_rule.items():
            rule, found = self.rules.get(name), values.get(name)
            if rule is None or found is None:
                for key in keys:
                    self._alerts.see(name, key, float("nan"), True, below=False)
                continue
            silent = rule.measuring.silent(now, self._behind(rule))
            for key in keys:
                number = rule.numbers.get(key)
                if number is None:
                    self._alerts.see(name, key, float("nan"), True, below=False)
                else:
                    self._alerts.see(name, key, float(found[number]), bool(silent[number]), below=rule.below)

    def keep_holds(self, now: float, *, all_of_them: bool = False) -> None:
        """Keeps since when things are breached, as far as it changed: what a start goes on from."""
        with self._lock:
            due = self._holds.due(self.rules, now, all_of_them=all_of_them)
        self._holds.write(due, now)

    @property
    def groups(self) -> int:
        return sum(len(rule.groups) for rule in self.rules.values())

    @property
    def left_out(self) -> int:
        """Points that found no room in windows."""
        return sum(rule.measuring.windows.left_out for rule in self.rules.values())
