"""One rule at work: what it looks at, in which groups, with which limits."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from balise.api import arithmetic
from balise.api.limits import Limits
from balise.api.rules import RuleBody
from balise.api.spans import seconds
from balise.core import filters
from balise.core.plans import OFF
from balise.core.rules.baseline import HOUR, NOT_ENOUGH, at_moment
from balise.core.rules.computing import compute
from balise.core.rules.courses import Courses
from balise.core.rules.heard import Heard
from balise.core.rules.kinds.making import Setting
from balise.core.rules.kinds.missing import EXPECTED
from balise.core.rules.kinds.running_out import RunningOut
from balise.core.rules.late import Late
from balise.core.rules.limits import CRITICAL, WARNING, LimitMachine, Transition
from balise.core.rules.look import Course, Look, Usual
from balise.server.alerts.book import Turn
from balise.server.hosts.directory import Directory
from balise.server.rules.alert_feed import AlertFeed
from balise.server.rules.event_feed import EventFeed
from balise.server.rules.groups import MOST_GROUPS, Groups
from balise.server.rules.series_feed import SeriesFeed
from balise.store.series.catalogue import Catalogue

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]

LimitsOf = Callable[[str, int], Limits | Literal["off"] | None]
"""What the plans say of a rule's limits on a host; None where the rule's own hold."""
Behind = Callable[[I64], F64 | float]
"""By how many seconds the clocks of some hosts are behind ours."""
SHARES = ("1", "", "%")
REACHED_FOR = 60.0
"""Seconds after which it is worked out again when something runs out."""
TIMES: dict[str, float] = {"s": 1.0, "min": 60.0, "h": 3600.0, "d": 86400.0}
"""Units of time, of which the value itself can be what is left."""


class Watched:
    """A rule's groups and limits, and the feeds that say what there is of each. Times are unix seconds."""

    def __init__(
        self,
        name: str,
        body: RuleBody,
        *,
        catalogue: Catalogue,
        directory: Directory,
        limits_of: LimitsOf,
        absences: Sequence[tuple[float, float]],
        is_planned: Callable[[str], bool] = lambda _rule: True,
    ) -> None:
        """`absences` are the stretches in which the console was not there to hear anybody; `is_planned` tells whether
        plans may say anything of the rule at all."""
        self.name = name
        self.body = body
        self._limits_of = limits_of
        self._is_planned = is_planned
        self._directory = directory
        self._catalogue = catalogue
        self.over = body.windows
        measure = body.measure
        self.kind = body.limits.kind
        self.holds = [seconds(x.hold) for x in (body.limits.warning, body.limits.critical) if x is not None]
        self.groups = Groups(measure.each)
        hosts = filters.parse(body.hosts) if body.hosts else None
        self.feeds = {
            part: SeriesFeed(
                value, self.over, hosts=hosts, groups=self.groups, catalogue=catalogue, directory=directory
            )
            for part, value in measure.parts.items()
        }
        self._tree = arithmetic.parse(measure.compute) if measure.compute else None
        self.heard = Heard(seconds(body.limits.any.memory or "30d"), absences)
        self.late = Late()
        """What came late of its groups."""
        self.events: EventFeed | None = None
        if measure.events is not None:
            distinct = measure.taken == "distinct"
            self.events = EventFeed(
                self.over,
                distinct=distinct,
                groups=self.groups,
                heard=self.heard,
                late=self.late,
                compares=measure.pattern == "more",
            )
        self.alerts: AlertFeed | None = None
        if measure.alerts is not None:
            self.alerts = AlertFeed(measure.alerts, groups=self.groups, host_of=self._host_of)
        self.machine = LimitMachine(body.limits, setting=Setting(at=self._usual_at(catalogue), news=self.over))
        self._limited = 0
        self.courses: dict[int, Courses] = {}
        if self.kind == "runs_out_within" and not self.counts_down:
            for severity, limit in ((WARNING, body.limits.warning), (CRITICAL, body.limits.critical)):
                if limit is not None:
                    self.courses[severity] = Courses(seconds(limit.runs_out_within or "1h"))
        self._reaching: dict[int, tuple[float, dict[str, float]]] = {}
        """When groups with an alert run out, and when that was worked out."""
        self.usual: tuple[int, Usual] | None = None
        """An hour, unix seconds, and what is usual in it and those beside it [groups, neighbours]."""
        self.note = ""
        """What is not known yet."""

    @property
    def said(self) -> str:
        """What is not known yet, and what found no room."""
        dropped = self.events.dropped if self.events is not None else 0
        parts = [
            self.note,
            f"{self.groups.left_out:,} times something beyond {MOST_GROUPS:,} groups was not looked at"
            if self.groups.left_out
            else "",
            f"{dropped:,} events came faster than they could be counted" if dropped else "",
            f"of {self.late.left_out:,} groups it is not known what came late" if self.late.left_out else "",
        ]
        return "; ".join(part for part in parts if part)

    def said_of(self, look: Look | None, row: int) -> str:
        """What is not known yet of one group."""
        if self.kind != "unusual" or look is None or look.usual is None or row >= len(look.usual.middle):
            return self.said
        return NOT_ENOUGH if np.isnan(look.usual.middle[row]) else ""

    def _host_of(self, name: str) -> int | None:
        known = self._directory.find(name)
        return known.id if known is not None else None

    def _usual_at(self, catalogue: Catalogue) -> float | None:
        """At which value things have run out; None where the value itself is the time that is left."""
        if self.body.measure.kind != "metric" or self.kind != "runs_out_within":
            return 1.0
        metric = catalogue.metrics.get(self.body.measure.metric or "")
        unit = metric.unit if metric is not None else ""
        if unit in TIMES and self.body.limits.any.at is None:
            return None
        return 100.0 if unit == "%" else 1.0

    @property
    def counts_down(self) -> bool:
        """Whether the value is the time that is left, as of certificates."""
        kind = self.machine.kind(WARNING) or self.machine.kind(CRITICAL)
        return isinstance(kind, RunningOut) and kind.own_at is None

    @property
    def unit(self) -> str:
        """The unit of what is measured."""
        if len(self.feeds) == 1 and self._tree is None:
            return next(iter(self.feeds.values())).unit
        return "" if self.feeds else "1"

    @property
    def told_unit(self) -> str:
        """The unit of what alerts tell."""
        return "s" if self.kind == "missing_for" or self.counts_down else self.unit

    @property
    def looks_back(self) -> float:
        """How far back events have to be known, seconds."""
        if self.kind == "first_seen":
            return max(self.over, seconds(self.body.limits.any.memory or "30d"))
        return EXPECTED if self.kind == "missing_for" else self.over

    @property
    def asks_of_hosts(self) -> bool:
        """Whether it is another rule for a host with other labels or in other groups, or may have other limits."""
        return self._is_planned(self.name) or any(feed.asks_of_hosts for feed in self.feeds.values())

    @property
    def is_outdated(self) -> bool:
        """Whether its metric turned out to be another than was thought: of a unit in which it counts down, or none."""
        kind = self.machine.kind(WARNING) or self.machine.kind(CRITICAL)
        if not isinstance(kind, RunningOut) or self.body.limits.any.at is not None:
            return False
        return kind.own_at != self._usual_at(self._catalogue)

    @property
    def metrics(self) -> list[int]:
        """The numbers of the metrics that it measures."""
        return sorted({feed.metric.id for feed in self.feeds.values() if feed.metric is not None})

    @property
    def series(self) -> int:
        return sum(len(feed.series) for feed in self.feeds.values())

    # --- its groups

    def settle_groups(self) -> None:
        """Gives new groups their limits, and room everywhere."""
        count = len(self.groups)
        if count == self._limited:
            return
        self.machine.grow(count)
        self.heard.grow(count)
        for courses in self.courses.values():
            courses.grow(count)
        # Room that is new has the rule's own limits.
        for number in range(self._limited, count) if self._is_planned(self.name) else ():
            self._take_limits(number)
        self._limited = count

    def _limit(self, number: int) -> None:
        self.machine.reset_limits(number)
        self._take_limits(number)

    def _take_limits(self, number: int) -> None:
        """What plans say of a group whose limits are the rule's."""
        host = self.groups[number].host
        own = self._limits_of(self.name, host) if host is not None else None
        if own == OFF:
            self.machine.silence(number)
        elif own is not None:
            self.machine.set_limits(number, own)

    def is_off(self, number: int) -> bool:
        """Whether a plan has switched the rule off for a group."""
        host = self.groups[number].host
        return host is not None and self._limits_of(self.name, host) == OFF

    def relimit(self) -> None:
        """Plans changed: every group has the limits that hold for it now."""
        for number in range(len(self.groups)):
            self._limit(number)

    def find_series(self) -> dict[str, list[int]]:
        """Takes up series that are new since the last time, by the feed that has them."""
        found = {name: added for name, feed in self.feeds.items() if (added := feed.find_series())}
        self.settle_groups()
        return found

    def follow(self, hosts: Iterable[int]) -> tuple[dict[str, list[int]], list[int], list[str]]:
        """Hosts were added, renamed, labelled anew or retired.

        Answers the series taken up by feed, the groups that have one more series, and the keys of groups that have none
        any more.
        """
        hosts = list(hosts)
        added: dict[str, list[int]] = {}
        entered: list[int] = []
        left: list[int] = []
        for name, feed in self.feeds.items():
            followed = feed.follow(hosts)
            self.settle_groups()
            if followed.added:
                added[name] = followed.added
            entered += feed.groups_of(followed.added)
            for before, after in followed.moved:
                left.append(before)
                entered.append(after)
                if before >= 0 and after >= 0 and not self.groups.rows_of(before) and self.groups.rows_of(after) == 1:
                    # All of one group under another name: its holds go on.
                    self.machine.resume(after, self.machine.breaches_of(before))
        for host in hosts if self._is_planned(self.name) else ():
            for number in self.groups.of_host(host):
                self._limit(number)
        gone = [number for number in dict.fromkeys(left) if number >= 0 and not self.groups.rows_of(number)]
        for number in gone:
            self.machine.clear(number)
        return added, [number for number in entered if number >= 0], [self.groups[number].key for number in gone]

    def has(self, key: str) -> bool:
        """Whether a group of this key is there."""
        number = self.groups.numbers.get(key)
        return number is not None and (not self.feeds or self.groups.rows_of(number) > 0)

    # --- what they say

    def observe(
        self, series: I64, times: F64, values: F64, came_at: float, behind: Behind, *, old: bool = False
    ) -> None:
        """Takes points that came at a moment by our clock; `old` ones are nothing new."""
        for feed in self.feeds.values():
            rows, moments = feed.observe(series, times, values, came_at)
            if len(rows) and self.kind in ("missing_for", "first_seen"):
                groups = feed.measuring.group_of[rows]
                mine = groups >= 0
                heard = (moments + behind(feed.hosts[rows]))[mine]
                (self.heard.know if old else self.heard.note)(groups[mine], heard)

    def note_late(self, series: I64, times: F64, came_at: float, behind: Behind) -> None:
        """Takes note of points that are of a time at which the rule was asked without them."""
        for feed in self.feeds.values():
            rows, moments = feed.rows_of(series, times)
            groups = feed.measuring.group_of[rows]
            mine = groups >= 0
            self.late.note(groups[mine], (moments + behind(feed.hosts[rows]))[mine], came_at)

    def values(self, now: float, behind: Behind) -> F64:
        """What each group measures."""
        count = len(self.groups)
        if self.events is not None:
            return self.events.values(now, count)
        if self.alerts is not None:
            return self.alerts.values()
        return self.combined({name: feed.values(now, behind(feed.hosts), count) for name, feed in self.feeds.items()})

    def combined(self, parts: Mapping[str, F64]) -> F64:
        """The value of groups from those of the feeds, of any shape."""
        found = next(iter(parts.values())) if self._tree is None else compute(self._tree, parts)
        return found * self._seconds if self.counts_down else found

    @property
    def _seconds(self) -> float:
        feed = next(iter(self.feeds.values()))
        return TIMES.get(feed.metric.unit, 1.0) if feed.metric is not None else 1.0

    def look(self, now: float, behind: Behind) -> Look:
        """What is known of all groups at a moment."""
        if self.events is not None:
            self.events.take_in(now)
        self.settle_groups()
        values = self.values(now, behind)
        self.settle_groups()
        if self.kind == "missing_for":
            return Look(values, quiet=self.heard.quiet(now) if self._listens() else np.full(len(values), np.nan))
        if self.kind == "first_seen":
            return Look(values, fresh=self.heard.fresh(now) if self._listens() else np.full(len(values), np.nan))
        if self.kind == "unusual":
            return Look(values, usual=self._usual_at_moment(now, len(values)))
        if self.courses:
            return Look(values, courses=self.courses_at(now, values))
        return Look(values)

    def _listens(self) -> bool:
        return self.events is None or self.events.learnt

    def _usual_at_moment(self, now: float, groups: int) -> Usual:
        hour = int(now // HOUR * HOUR)
        if self.usual is None or self.usual[0] != hour:
            nothing = np.full(groups, np.nan)
            return Usual(nothing, nothing)
        usual = at_moment(self.usual[1], (now - hour) / HOUR)
        more = groups - len(usual.middle)
        if more <= 0:
            return usual
        rest = np.full(more, np.nan)
        return Usual(np.concatenate([usual.middle, rest]), np.concatenate([usual.spread, rest]))

    def courses_at(self, now: float, values: F64) -> tuple[Course | None, Course | None]:
        """Where groups go, as warning and critical look at it, when they measure so much."""
        found: list[Course | None] = [None, None]
        for severity, courses in self.courses.items():
            at = self.ends_at(severity)
            courses.sample(now, values)
            courses.look(now, at)
            found[severity - 1] = courses.course(now, at)
        return found[0], found[1]

    def ends_at(self, severity: int) -> F64:
        """The values at which groups have run out."""
        kind = self.machine.kind(severity)
        return kind.at if isinstance(kind, RunningOut) else np.full(len(self.groups), np.nan)

    def propose(self, now: float, behind: Behind) -> tuple[list[Transition], Look]:
        """The changes of level that have to be written, and what is known of each group."""
        look = self.look(now, behind)
        return self.machine.propose(now, look), look

    def shown(self, look: Look, row: int) -> float:
        """What an alert of a group tells as its value."""
        if self.kind == "missing_for" and look.quiet is not None:
            return float(look.quiet[row])
        return float(look.values[row])

    def detail(self, look: Look, row: int, level: int, now: float) -> dict[str, float]:
        """What else an alert of a group tells: what is usual, or when it runs out."""
        if self.kind == "unusual" and look.usual is not None and not np.isnan(look.usual.middle[row]):
            return {"middle": float(look.usual.middle[row]), "spread": float(look.usual.spread[row])}
        courses = self.courses.get(level) or next(iter(self.courses.values()), None)
        if courses is not None:
            severity = level if level in self.courses else next(iter(self.courses))
            asked, told = self._reaching.get(row, (0.0, {}))
            if now - asked >= REACHED_FOR:
                reaches = courses.reaches(row, now, float(self.ends_at(severity)[row]))
                named = zip(("reaches_at", "earliest", "latest"), reaches or (), strict=False)
                told = {name: at for name, at in named if np.isfinite(at)}
                self._reaching[row] = (now, told)
            return told
        if self.counts_down:
            return {"reaches_at": now + float(look.values[row])}
        return {}

    def turn(self, change: Transition, look: Look, now: float) -> Turn:
        group = self.groups[change.row]
        return Turn(
            rule=self.name,
            body=self.body,
            unit=self.told_unit,
            key=group.key,
            host=group.host,
            host_name=group.host_name,
            attributes=group.attributes,
            level=change.after,
            value=self.shown(look, change.row),
            bound=self.machine.bound_of(change.after, change.row, look),
            since=change.since,
            worse=self.worse(look, change.row),
            detail=self.detail(look, change.row, change.after, now) if change.after else {},
        )

    def worse(self, look: Look, row: int) -> Callable[[float, float], float]:
        """Tells which of two values of a group is the worse."""
        limit = self.body.limits.any
        if limit.outside is not None:
            middle = sum(limit.outside) / 2
        elif self.kind == "unusual" and (limit.side or "both") == "both" and look.usual is not None:
            middle = float(look.usual.middle[row])
        else:
            falls = self.kind == "below" or limit.side == "below" or self.counts_down
            return min if falls else max
        return lambda one, other: other if abs(other - middle) > abs(one - middle) else one

    def silent(self, now: float, behind: Behind) -> NDArray[np.bool_]:
        """Groups all of whose series have stopped; events and alerts are never silent."""
        silent = np.ones(len(self.groups), bool) if self.feeds else np.zeros(len(self.groups), bool)
        if self.kind == "missing_for":
            return np.zeros(len(self.groups), bool)
        for feed in self.feeds.values():
            own = feed.measuring.silent(now, behind(feed.hosts))
            silent[: len(own)] &= own
        return silent

    # --- going on after a restart or a change

    def breaches(self) -> dict[str, list[float]]:
        """Since when groups have been breached, by their keys: what holds need to go on."""
        return {self.groups[row].key: since for row, since in self.machine.breaches().items()}

    def resume(self, breaches: Mapping[str, Sequence[float]]) -> None:
        """Goes on from what `breaches` told."""
        for key, since in breaches.items():
            number = self.groups.numbers.get(key)
            if number is not None:
                self.machine.resume(number, since)

    def __iter__(self) -> Iterator[SeriesFeed]:
        return iter(self.feeds.values())
