"""Watching: what arrives goes into every rule's windows, and its limits are asked at every beat of the pulse."""

from __future__ import annotations

import json
import logging
import threading
import time
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.exc import OperationalError

from balise.api.rules import RuleBody
from balise.api.spans import seconds
from balise.core.filters import fold_name
from balise.core.moments import NS, nanos, seconds_of
from balise.core.plans import OFF
from balise.core.rules.late import LATE
from balise.core.rules.limits import LimitMachine, Transition
from balise.core.rules.look import Look
from balise.core.rules.measuring import Measuring, Row
from balise.core.rules.rehearsal import Arrivals, Part, play_together
from balise.core.rules.rings import in_turn
from balise.core.series.growth import MAX_GAP
from balise.server.alerts.book import CAPTURED, AlertBook, Turn
from balise.server.hosts.clocks import Clocks
from balise.server.hosts.directory import Directory
from balise.server.plans.held import HeldPlans
from balise.server.rules.came import Came
from balise.server.rules.holds import HoldBook
from balise.server.rules.looking_back import POINTS_BEFORE, look_back
from balise.server.rules.series_feed import SeriesFeed, padded
from balise.server.rules.watched import Watched
from balise.server.signals import Signal
from balise.store.series.head import Batch
from balise.store.series.store import SeriesStore
from balise.store.state.store import StateStore
from balise.store.state.tables import Rule

log = logging.getLogger(__name__)
T = TypeVar("T")
F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
MOST_TOGETHER = 100_000
"""Series whose windows are filled with one question."""
MOST_ARRIVALS = 200_000
PLAYED_MOMENTS = 900
"""Moments at which the past is looked at to learn since when something is breached."""
WRITTEN_AT_ONCE = 500
"""Turns that are written by one change."""
MOST_WAIT = 0.3
"""Seconds, about, for which what a rule found may wait until others are asked."""
PUT_OFF = 30.0
"""Seconds before an alert that cannot be written is tried again."""
SLOW, LONGEST_REST = 0.2, 10.0
"""Seconds of the processor beyond which a rule is asked less often, so that it takes no more than a quarter of the
time; and the longest for which it is not asked."""
MEMBERS_FOR = 15.0
Members = Mapping[str, Sequence[tuple[str, str | None]]]
"""By host the applications that it is a part of, each with the service that is, or None for the host itself."""


class Watch:
    """All rules at work. `tick` is called by the pulse, and by tests."""

    def __init__(
        self,
        *,
        state: StateStore,
        store: SeriesStore,
        directory: Directory,
        clocks: Clocks,
        alerts: AlertBook,
        plans: HeldPlans,
        applications: Callable[[], Members],
        absences: Callable[[], Sequence[tuple[float, float]]],
    ) -> None:
        self._state = state
        self._store = store
        self._directory = directory
        self._clocks = clocks
        self._alerts = alerts
        self._plans = plans
        self._applications = applications
        self._absences = absences
        self._absent: Sequence[tuple[float, float]] = ()
        """When the console was not there, as of this start."""
        self._members: Members = {}
        self._members_until = 0.0
        self.looks: dict[str, Look] = {}
        """What was known of each rule's groups when it was asked last."""
        self.changed = Signal[str]("rule at work")
        """Told the name of a rule that was taken up, changed or let go."""
        self.took: dict[str, float] = {}
        """Seconds of the processor that each rule took when it was asked last."""
        self._lasted: dict[str, float] = {}
        """Seconds for which that went on, with what it waited for others."""
        self._resting: dict[str, float] = {}
        self._holds = HoldBook(state)
        self.lock = threading.RLock()
        """Held while rules are asked; whoever changes what they know holds it too."""
        self._in_turn: list[str] | None = None
        """Rules about alerts, each after those that it counts; None when that has to be worked out anew."""
        self._arrivals: deque[Batch] = deque(maxlen=MOST_ARRIVALS)
        self.rules: dict[str, Watched] = {}
        self._version = -1
        self._here: dict[int, str] = {}
        """The hosts that were here at that version of the directory, with their names."""
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

    @property
    def has_arrivals(self) -> bool:
        """Whether points wait to be looked at."""
        return bool(self._arrivals)

    # --- which rules

    def load(self, now: float) -> None:
        """Takes up all enabled rules: windows are filled from the store, holds and levels go on from what is kept."""
        with self.lock:
            rows = self._state.read(lambda s: list(s.scalars(select(Rule))))
            kept = self._holds.read()
            self._absent = self._absences()
            self._version = self._directory.version
            self._here = {known.id: known.name for known in self._directory.all()}
            self.rules, self._in_turn = {}, None
            bodies = [(row.name, RuleBody.model_validate(row.body)) for row in rows]
            made = [self._made(name, body) for name, body in bodies if body.enabled]
            for rule in made:
                rule.find_series()
            for some in self._in_parts(made):
                self._fill_all(some, now, old=True)
            for rule in made:
                self.rules[rule.name] = self._begun(rule)
                if rule.name in kept:
                    self._resume(rule, kept[rule.name])
                else:
                    self._play_past(rule, now)

    def _in_parts(self, rules: Sequence[Watched]) -> Iterator[list[Watched]]:
        """Rules that look back about as far, so that no more is read than they need."""
        some: list[Watched] = []
        for rule in sorted(rules, key=self._depth_of):
            if some and self._depth_of(rule) > 2 * self._depth_of(some[0]):
                yield some
                some = []
            some.append(rule)
        yield some

    def _made(self, name: str, body: RuleBody) -> Watched:
        return Watched(
            name,
            body,
            catalogue=self._store.catalogue,
            directory=self._directory,
            limits_of=self._plans.limits_of,
            absences=self._absent,
            is_planned=self._plans.is_planned,
        )

    def _begun(self, rule: Watched) -> Watched:
        """A rule whose windows are filled, with what else is known of its groups."""
        if rule.kind in ("missing_for", "first_seen"):
            self._remember(rule)
        self._know(rule, [key for name, key in list(self._alerts.open) if name == rule.name])
        self._restore(rule, range(len(rule.groups)))
        return rule

    def _taken_up(self, name: str, body: RuleBody, now: float) -> Watched:
        made = self._made(name, body)
        made.find_series()
        self._fill_all([made], now, old=True)
        return self._begun(made)

    def _know(self, rule: Watched, keys: Iterable[str]) -> None:
        """Things that have an open alert, or are breached, are groups of a rule about events or alerts, whatever is
        heard of them."""
        if rule.feeds:
            return
        for key in keys:
            values = {str(k): str(v) for k, v in json.loads(key).items()}
            if set(values) == set(rule.groups.each):
                known = self._directory.find(values.get("host", ""))
                rule.groups.of(values, known.id if known is not None else None, values.get("host", ""))
        rule.settle_groups()

    def _resume(self, rule: Watched, breaches: Mapping[str, Sequence[float]]) -> None:
        self._know(rule, breaches)
        rule.resume(breaches)

    def _remember(self, rule: Watched) -> None:
        """Series that nothing was stored of lately were heard before, though nobody knows exactly when."""
        for feed in rule:
            times = np.array([(self._store.newest(number) or 0) / NS for number in feed.series])
            groups = feed.measuring.group_of
            unknown = (groups >= 0) & (times > 0)
            unknown[unknown] &= np.isnan(rule.heard.last[groups[unknown]])
            rule.heard.know(groups[unknown], times[unknown])

    def _restore(self, rule: Watched, groups: Iterable[int]) -> None:
        """Groups whose alerts are open are at the levels that are written."""
        if not self._alerts.open:
            return
        wanted = set(groups)
        if len(self._alerts.open) < len(wanted):
            keys = [key for name, key in list(self._alerts.open) if name == rule.name]
            wanted &= {rule.groups.numbers.get(key, -1) for key in keys}
        for number in wanted:
            held = self._alerts.open.get((rule.name, rule.groups[number].key))
            if held is not None and held.calm_since is None and not rule.machine.level[number]:
                rule.machine.restore(number, held.level)

    def _reach_of(self, rule: Watched) -> float:
        """How far back windows look, seconds; of what may be missing a little further than it may be silent."""
        if rule.kind != "missing_for":
            return rule.over
        longest = max(seconds(x.missing_for or "0s") for x in rule.body.limits.both)
        return max(rule.over, 1.25 * longest)

    def _depth_of(self, rule: Watched) -> float:
        """How far back points are read for windows, seconds: what grows is seen from the point before on."""
        return self._reach_of(rule) + max((_before(feed) for feed in rule), default=0.0)

    def _stored(self, rule: Watched, feed: SeriesFeed, series: Sequence[int], start: float) -> Arrivals:
        """The points of some series from `start` on, by their own clocks, and what growth before that needs."""
        rows, times, values = self._store.reader.since(series, nanos(self._reach(feed, start)))
        return Arrivals(rows, times / NS, values)

    def _reach(self, feed: SeriesFeed, start: float) -> float:
        """From when on points are needed to know what was from `start` on."""
        return start - self._behind_of([feed]) - _before(feed)

    def _behind_of(self, feeds: Iterable[SeriesFeed]) -> float:
        """By how many seconds the clock of a host is behind ours, of the one that is most."""
        return max((float(np.max(self._clocks.behind_of(feed.hosts), initial=0.0)) for feed in feeds), default=0.0)

    def _play_past(self, rule: Watched, now: float) -> None:
        """Learns from stored points since when things are breached."""
        hold = max(rule.holds, default=0.0)
        if hold <= 0 or not rule.series or rule.kind not in ("above", "below", "outside"):
            return
        step = max(1.0, hold / PLAYED_MOMENTS)
        start = now - hold - 2 * step
        moments = np.arange(start, now, step)
        machine = LimitMachine(rule.body.limits, len(rule.groups))
        for number, group in enumerate(rule.groups.all):
            own = self._plans.limits_of(rule.name, group.host) if group.host is not None else None
            if own == OFF:
                machine.silence(number)
            elif own is not None:
                machine.set_limits(number, own)
        parts = {name: self._part(rule, feed, start) for name, feed in rule.feeds.items()}
        for at, values in play_together(parts, moments):
            machine.propose(at, rule.combined({k: padded(v, len(rule.groups)) for k, v in values.items()}))
        for row in range(len(rule.groups)):
            rule.machine.resume(row, machine.breaches_of(row))

    def _part(self, rule: Watched, feed: SeriesFeed, start: float) -> Part:
        """The points of a feed as they have to be played, in windows of their own."""
        measuring = Measuring(feed.value.take, rule.over)
        found = [self._store.catalogue.series[number] for number in feed.series]
        groups = feed.measuring.group_of.tolist()
        measuring.add([Row(s.kind, g, s.part, (s.host, s.attributes)) for s, g in zip(found, groups, strict=True)])
        behind = np.broadcast_to(self._clocks.behind_of(feed.hosts), len(found))
        return Part(measuring, self._stored(rule, feed, feed.series, start - rule.over), behind)

    def change(self, name: str, body: RuleBody | None, now: float, why: str) -> None:
        """Takes up a changed rule, or lets go of one. Alerts of groups the new form still has stay open."""
        with self.lock:
            self.problems.pop(name, None)
            self._in_turn = None
            if body is None or not body.enabled:
                for held in (self.rules, self.took, self._lasted, self._resting):
                    held.pop(name, None)
                self._holds.forget(name)
                self._alerts.end_of_rule(name, why, now)
                self.changed.tell(name)
                return
            self._ended.pop(name, None)
            made = self._taken_up(name, body, now)
            self._play_past(made, now)
            self._holds.touch(name)
            self._alerts.end_of_rule(name, why, now, keep=lambda key: key in made.groups.numbers)
            self.rules[name] = made
            self.changed.tell(name)

    def renew(self, name: str, now: float) -> None:
        """Takes a rule up anew, as after a start: it has missed something."""
        with self.lock:
            held = self.rules.get(name)
            if held is not None:
                made = self._taken_up(name, held.body, now)
                self._resume(made, held.breaches())
                self.rules[name] = made
        self.changed.tell(name)

    def plans_changed(self, rules: Sequence[str], now: float) -> None:
        """Plans give some hosts other limits of these rules now; what windows hold goes on."""
        with self.lock:
            for name in rules:
                if name in self.rules:
                    self.rules[name].relimit()
                    self._end_switched_off(self.rules[name], now)
                    self._play_past(self.rules[name], now)
                    self._holds.touch(name)

    def _end_switched_off(self, rule: Watched, now: float) -> None:
        """Alerts of things for which the rule is off now have not recovered: they end, and say why."""
        off = [row for row in np.flatnonzero(rule.machine.level).tolist() if rule.is_off(row)]
        self._alerts.end_of_groups(rule.name, [rule.groups[row].key for row in off], "switched off by a plan", now)
        for row in off:
            rule.machine.clear(row)

    def _follow_hosts(self, now: float) -> None:
        """Hosts were added, renamed, labelled anew or retired: rules look at other series, and keep the rest."""
        version = self._directory.version
        if version == self._version:
            return
        changed = self._directory.changed_since(self._version)
        moved = self._moved_of(changed)
        added: dict[Watched, list[int]] = {}
        for rule in self.rules.values():
            mine = changed if rule.asks_of_hosts else moved
            found = self._guarded(rule, lambda rule=rule, mine=mine: self._follow(rule, mine)) if mine else None  # type: ignore[misc]
            if found:
                added[rule] = found
        self._version = version
        # Until their windows are filled, these rules have missed something.
        names = {rule.name for rule in added}
        self._stale.update(names)
        self._fill_together(added, now)
        self._stale.difference_update(names - set(self.problems))

    def _moved_of(self, changed: set[int]) -> set[int]:
        """Those of some hosts that have come or left, or have another name than before."""
        now = self._directory.names_here(changed)
        moved = {host for host in changed if now.get(host) != self._here.get(host)}
        for host in moved - now.keys():
            del self._here[host]
        self._here.update(now)
        return moved

    def _follow(self, rule: Watched, changed: set[int]) -> list[int]:
        """The series that a rule has taken up."""
        added, entered, gone = rule.follow(changed)
        self._restore(rule, entered)
        if gone:
            self._ended.setdefault(rule.name, []).extend(gone)
        return [number for numbers in added.values() for number in numbers]

    def _end_gone(self, now: float) -> None:
        """Ends the alerts of groups that are gone; what could not be written is tried again at the next tick."""
        for name, keys in list(self._ended.items()):
            rule = self.rules.get(name)
            gone = [key for key in keys if rule is not None and not rule.has(key)]
            self._alerts.end_of_groups(name, gone, "no longer looked at", now)
            del self._ended[name]

    def _fill_all(self, rules: Iterable[Watched], now: float, *, old: bool = False) -> None:
        """Puts what the store has of all series of some rules into their windows."""
        self._fill_together({rule: [n for feed in rule for n in feed.series] for rule in rules}, now, old=old)

    def _fill_together(self, added: Mapping[Watched, Sequence[int]], now: float, *, old: bool = False) -> None:
        """Puts what the store has of series into the windows of several rules, some hosts at a time: what is stored of
        a host is then read once for all of them."""
        wanted = {rule: np.unique(np.array(numbers, np.int64)) for rule, numbers in added.items() if numbers}
        if not wanted:
            return
        behind = {rule: self._behind_of(rule) for rule in wanted}
        series = np.unique(np.concatenate(list(wanted.values())))
        part_of = np.empty(len(series), np.int64)
        by_host = self._store.catalogue.series.hosts_of(series).argsort(kind="stable")
        part_of[by_host] = np.arange(len(series)) // MOST_TOGETHER
        parts = {rule: part_of[series.searchsorted(mine)] for rule, mine in wanted.items()}
        for part in range(int(part_of.max()) + 1):
            some = {rule: mine[parts[rule] == part] for rule, mine in wanted.items()}
            self._fill_part(series[part_of == part], some, behind, now, old=old)

    def _fill_part(
        self, series: I64, wanted: Mapping[Watched, I64], behind: Mapping[Watched, float], now: float, *, old: bool
    ) -> None:
        """Puts what the store has of some series, ascending, into the windows of rules; `behind` are the seconds by
        which clocks of theirs are."""
        windows = min(now - self._reach_of(rule) - behind[rule] for rule in wanted)
        far = min(now - self._depth_of(rule) - behind[rule] for rule in wanted)
        growing = [mine for rule, mine in wanted.items() if self._depth_of(rule) > self._reach_of(rule)]
        grows = np.isin(series, np.concatenate([np.empty(0, np.int64), *growing]))
        reader = self._store.reader
        rows, times, values = look_back(reader, series, windows=nanos(windows), far=nanos(far), grows=grows)
        if not len(rows):
            return
        found, at = series[rows], times / NS
        for rule, mine in wanted.items():
            lo, hi = found.searchsorted(mine), found.searchsorted(mine, side="right")
            if (lo == hi).all():
                continue
            pick = np.repeat(lo - np.cumsum(hi - lo) + (hi - lo), hi - lo) + np.arange((hi - lo).sum())
            which = np.repeat(np.arange(len(mine)), hi - lo)
            # Of what is before the windows the last points tell from where it grew, and how far apart they are.
            inside = at[pick] >= now - self._reach_of(rule) - behind[rule]
            kept = np.bincount(which, inside, len(mine)) + POINTS_BEFORE
            pick = pick[hi[which] - pick <= kept[which]]
            self._guarded(
                rule,
                lambda rule=rule, pick=pick: rule.observe(  # type: ignore[misc]
                    found[pick], at[pick], values[pick], now, self._clocks.behind_of, old=old
                ),
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

    # --- at every beat

    def tick(self, now: float) -> int:
        """Takes in what arrived and asks every rule; answers how many groups were asked."""
        began = time.perf_counter()
        with self.lock:
            self._follow_hosts(now)
            self._end_gone(now)
            self._take_in(now)
            looks: dict[str, Look] = {}
            first = [rule for rule in self.rules.values() if rule.alerts is None]
            self._ask(first, looks, now)
            # Rules about alerts see those that opened a moment ago; one that another is about comes before it.
            for rule in self._alert_rules():
                self._count_alerts(self.rules[rule])
                self._ask([self.rules[rule]], looks, now)
            self._look_at_open(looks, now)
            self.looks = {**{name: look for name, look in self.looks.items() if name in self.rules}, **looks}
        self.last_tick = time.perf_counter() - began
        return sum(len(look.values) for look in looks.values())

    def _alert_rules(self) -> list[str]:
        if self._in_turn is None:
            self._in_turn = in_turn({r.name: r.body for r in self.rules.values() if r.alerts is not None})
        return self._in_turn

    def _ask(self, rules: Sequence[Watched], looks: dict[str, Look], now: float) -> None:
        """Asks some rules, those first that take the least time, and writes what they find: nothing waits for long that
        others are asked."""
        proposed: list[tuple[Watched, Transition, Turn]] = []
        since = time.perf_counter()
        for rule in sorted(rules, key=lambda rule: self._lasted.get(rule.name, 0.0)):
            if self._resting.get(rule.name, 0.0) > now:
                continue
            began, used = time.perf_counter(), time.thread_time()
            if proposed and began - since + self._lasted.get(rule.name, 0.0) > MOST_WAIT:
                self._write(proposed, now)
                proposed, since = [], began
            found = self._guarded(rule, lambda rule=rule: self._asked(rule, now))  # type: ignore[misc]
            self._lasted[rule.name] = time.perf_counter() - began
            took = self.took[rule.name] = time.thread_time() - used
            if took > SLOW:
                self._resting[rule.name] = now + min(3 * took, LONGEST_REST)
            if found is not None:
                self.problems.pop(rule.name, None)
                turns, looks[rule.name] = found
                proposed += turns
        self._write(proposed, now)

    def _asked(self, rule: Watched, now: float) -> tuple[list[tuple[Watched, Transition, Turn]], Look]:
        changes, look = rule.propose(now, self._clocks.behind_of)
        return [(rule, change, rule.turn(change, look, now)) for change in changes], look

    def _count_alerts(self, rule: Watched) -> None:
        if rule.alerts is not None:
            feed = rule.alerts
            self._guarded(
                rule,
                lambda: feed.count(
                    self.alert_lookup(one.facts, one.host, one.service) for one in list(self._alerts.open.values())
                ),
            )

    def alert_lookup(self, facts: Mapping[str, Any], host: int | None, service: str) -> Callable[[str], Any]:
        """What a rule may ask of an alert: what it says itself, what its host has, and its applications."""
        members = self._members_now()

        def lookup(name: str) -> Any:
            name = fold_name(name)
            if name in facts:
                return facts[name]
            if name == "application":
                parts = members.get(facts.get("host", ""), ())
                return sorted({app for app, of in parts if not service or of is None or of == service})
            return self._directory.attribute(host, name) if host is not None else None

        return lookup

    def _members_now(self) -> Members:
        now = time.monotonic()
        if now >= self._members_until:
            self._members, self._members_until = self._applications(), now + MEMBERS_FOR
        return self._members

    def _write(self, proposed: Sequence[tuple[Watched, Transition, Turn]], now: float) -> None:
        """Levels change when they are written: what could not be is proposed again."""
        self._put_off = {key: at for key, at in self._put_off.items() if at > now}
        due = [p for p in proposed if (p[2].rule, p[2].key) not in self._put_off]
        # The worst come first; others who write wait for one piece, not for a storm.
        due.sort(key=lambda p: -p[2].level)
        for start in range(0, len(due), WRITTEN_AT_ONCE):
            piece = due[start : start + WRITTEN_AT_ONCE]
            turns = [turn for _, _, turn in piece]
            written = {id(turn) for turn in self._alerts.apply(turns, now, 0 if start else CAPTURED)}
            for rule, change, turn in piece:
                if id(turn) in written:
                    rule.machine.settle(change)
                else:
                    self._put_off[(turn.rule, turn.key)] = now + PUT_OFF

    def _take_in(self, now: float) -> None:
        batches = [self._arrivals.popleft() for _ in range(len(self._arrivals))]
        if self._refill:
            self._refill = False
            self._stale.update(self.rules)
        for rule in list(self.rules.values()):
            self._guarded(rule, lambda rule=rule: self._find(rule, now))  # type: ignore[misc]
        if not batches:
            return
        series = np.concatenate([b.layout.series for b in batches])
        values = np.concatenate([b.values for b in batches])
        times = np.concatenate(
            [b.times if len(b.times) == len(b.values) else np.repeat(b.times, len(b.values)) for b in batches]
        )
        # In order once for all rules: each then finds those of its metrics, in order.
        metrics = self._store.catalogue.series.metrics_of(series)
        came = Came.in_any_order(metrics, series, times / NS, values)
        for rule in self.rules.values():
            own = series, times, _ = came.of(rule.metrics)
            if not len(series):
                continue
            self._guarded(
                rule,
                lambda rule=rule, own=own: rule.observe(*own, now, self._clocks.behind_of),  # type: ignore[misc]
            )
            late = now - times > LATE
            if late.any():
                rule.note_late(series[late], times[late], now, self._clocks.behind_of)

    def _find(self, rule: Watched, now: float) -> None:
        """Takes up new series, and fills windows that missed something."""
        if rule.is_outdated:
            # The first series of its metric says in which unit it is.
            self.rules[rule.name] = self._taken_up(rule.name, rule.body, now)
            return
        for name, series in rule.find_series().items():
            if self._alerts.open:
                self._restore(rule, rule.feeds[name].groups_of(series))
        if rule.name in self._stale:
            # Where that fails, it is missing something again.
            self._stale.discard(rule.name)
            self._fill_all([rule], now)

    def _look_at_open(self, looks: dict[str, Look], now: float) -> None:
        """Values and silence of the open alerts."""
        by_rule: dict[str, list[str]] = {}
        for name, key in list(self._alerts.open):
            by_rule.setdefault(name, []).append(key)
        for name, keys in by_rule.items():
            rule, look = self.rules.get(name), looks.get(name)
            if look is None and rule is not None and name not in self.problems:
                continue
            if rule is None or look is None:
                for key in keys:
                    self._alerts.see(name, key, float("nan"), rule is None or bool(rule.feeds), {}, max, now)
            else:
                self._guarded(rule, lambda rule=rule, look=look, keys=keys: self._see(rule, look, keys, now))  # type: ignore[misc]

    def _see(self, rule: Watched, look: Look, keys: Sequence[str], now: float) -> None:
        """What the open alerts of a rule are now."""
        silent = rule.silent(now, self._clocks.behind_of)
        for key in keys:
            number, held = rule.groups.numbers.get(key), self._alerts.open.get((rule.name, key))
            if number is None or held is None or number >= len(look.values):
                self._alerts.see(rule.name, key, float("nan"), bool(rule.feeds), {}, max, now)
                continue
            detail = rule.detail(look, number, held.level, now)
            shown, worse = rule.shown(look, number), rule.worse(look, number)
            self._alerts.see(rule.name, key, shown, bool(silent[number]), detail, worse, now)

    def keep_holds(self, now: float, *, all_of_them: bool = False) -> None:
        """Keeps since when things are breached, as far as it changed: what a start goes on from."""
        with self.lock:
            due = self._holds.due(self.rules, now, all_of_them=all_of_them)
        self._holds.write(due, now)

    @property
    def groups(self) -> int:
        return sum(len(rule.groups) for rule in self.rules.values())

    @property
    def left_out(self) -> int:
        """Points that found no room in windows."""
        return sum(feed.measuring.windows.left_out for rule in self.rules.values() for feed in rule)


def _before(feed: SeriesFeed) -> float:
    """Seconds before a window in which the point may be from which something grew."""
    return seconds_of(MAX_GAP) if feed.measuring.windows.growing else 0.0
