"""One rule at work: which series it looks at, in which groups, with which limits."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from balise.api.rules import Limits, RuleBody
from balise.api.spans import seconds
from balise.core import filters
from balise.core.rules.limits import LimitMachine, Transition
from balise.core.rules.measuring import OUT, Measuring, Row
from balise.core.rules.room import Room
from balise.server.alerts.book import Turn, group_key
from balise.server.hosts.directory import Directory
from balise.server.metrics.questions import unit_of
from balise.store.series.catalogue import Catalogue, Metric, Series
from balise.store.series.query import group_values, lookup_of

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]

LimitsOf = Callable[[str, int], Limits | None]
"""What the plans say of a rule's limits on a host; None where the rule's own hold."""


@dataclass
class Group:
    """One thing that can have an alert of its own."""

    key: str
    host: int | None
    host_name: str
    attributes: dict[str, str]
    rows: int = 0


@dataclass(frozen=True)
class Followed:
    """What became of a rule when hosts changed: the series taken up, the groups that have one more series, and the
    keys of groups that have none any more."""

    added: list[int]
    entered: list[int]
    gone: list[str]


class Watched:
    """A rule's series, windows and limits. What happens to hosts is followed without losing what windows hold."""

    def __init__(
        self, name: str, body: RuleBody, *, catalogue: Catalogue, directory: Directory, limits_of: LimitsOf
    ) -> None:
        self.name = name
        self.body = body
        self._limits_of = limits_of
        self._catalogue = catalogue
        self._directory = directory
        self._where = filters.parse(body.measure.where) if body.measure.where else None
        self._hosts = filters.parse(body.hosts) if body.hosts else None
        self.over = seconds(body.measure.over)
        limits = body.limits.warning or body.limits.critical
        self.below = limits is not None and limits.below is not None
        self.holds = [seconds(x.hold) for x in (body.limits.warning, body.limits.critical) if x is not None]
        self.numbers: dict[str, int] = {}
        self.groups: list[Group] = []
        self._groups_of_host: dict[int, list[int]] = {}
        self.measuring = Measuring(body.measure.take, self.over)
        self.machine = LimitMachine(body.limits)
        self._seen = 0
        self._removals = 0
        self._row_of = np.full(0, -1, np.int64)
        self.series: list[int] = []
        self._room = Room({"hosts": -1})
        self.hosts = np.empty(0, np.int64)
        """Of each row its host."""

    @property
    def metric(self) -> Metric | None:
        return self._catalogue.metrics.get(self.body.measure.metric)

    @property
    def unit(self) -> str:
        metric = self.metric
        return unit_of(metric.unit, self.body.measure.take) if metric else ""

    # --- which series

    def find_series(self) -> list[int]:
        """Takes up series that are new since the last time; answers them."""
        metric = self.metric
        if metric is None or (len(metric.series) == self._seen and metric.removals == self._removals):
            return []
        if metric.removals != self._removals:
            self._forget(metric)
        fresh = metric.series[self._seen : len(metric.series)]
        self._seen += len(fresh)
        return self._add(number for number in fresh if not self._has(number))

    def _forget(self, metric: Metric) -> None:
        """Series have gone from the catalogue: theirs is no row any more."""
        self._removals, self._seen = metric.removals, 0
        for row, number in enumerate(self.series):
            if number not in self._catalogue.series and self.measuring.group_of[row] != OUT:
                self._move(row, OUT)

    def _has(self, number: int) -> bool:
        return number < len(self._row_of) and self._row_of[number] >= 0

    def _add(self, numbers: Iterable[int]) -> list[int]:
        added: list[int] = []
        rows: list[Row] = []
        for number in numbers:
            one = self._catalogue.series.get(number)
            group = self._group_for(one) if one is not None else OUT
            if one is not None and group != OUT:
                added.append(number)
                rows.append(Row(one.kind, group, one.part, (one.host, one.attributes)))
                self.groups[group].rows += 1
        if not added:
            return []
        size = max(added) + 2
        if size > len(self._row_of):
            self._row_of = np.concatenate([self._row_of, np.full(size - len(self._row_of) + 1024, -1, np.int64)])
        self._row_of[added] = np.arange(len(self.series), len(self.series) + len(added))
        self.series.extend(added)
        vars(self).update(self._room.grow(vars(self), len(added)))
        self.hosts[-len(added) :] = [self._catalogue.series[number].host for number in added]
        self.measuring.add(rows)
        return added

    def _group_for(self, one: Series) -> int:
        """The number of the group a series belongs to, a new one if need be; `OUT` when the rule is not for it."""
        directory = self._directory
        if not directory.is_here(one.host):
            return OUT
        if self._hosts is not None and not filters.matches(self._hosts, lambda n: directory.attribute(one.host, n)):
            return OUT
        if self._where is not None and not filters.matches(self._where, lookup_of(directory, one)):
            return OUT
        values = group_values(directory, one, self.body.measure.each)
        key = group_key(values)
        number = self.numbers.get(key)
        return self._new_group(key, values, one.host) if number is None else number

    def number_of(self, values: dict[str, str]) -> int | None:
        """The group of these values of the rule's `each`."""
        return self.numbers.get(group_key(values))

    def _new_group(self, key: str, values: dict[str, str], host: int) -> int:
        number = self.numbers[key] = len(self.groups)
        named = "host" in self.body.measure.each
        name = self._directory.name(host) or ""
        attributes = {k: v for k, v in values.items() if k != "host"}
        self.groups.append(Group(key, host if named else None, name if named else "", attributes))
        if named:
            self._groups_of_host.setdefault(host, []).append(number)
        self.machine.grow(len(self.groups))
        self._limit(number)
        return number

    def _limit(self, number: int) -> None:
        host = self.groups[number].host
        own = self._limits_of(self.name, host) if host is not None else None
        self.machine.reset_limits(number)
        if own is not None:
            self.machine.set_limits(number, own)

    def relimit(self) -> None:
        """Plans changed: every group has the limits that hold for it now."""
        for number in range(len(self.groups)):
            self._limit(number)

    def follow(self, hosts: Iterable[int]) -> Followed:
        """Hosts were added, renamed, labelled anew or retired."""
        metric = self.metric
        if metric is None:
            return Followed([], [], [])
        new: list[int] = []
        left: list[int] = []
        entered: list[int] = []
        for host in hosts:
            for number in self._catalogue.series_of(metric.id, host):
                if not self._has(number):
                    new.append(number)
                    continue
                row = int(self._row_of[number])
                before, after = int(self.measuring.group_of[row]), self._group_for(self._catalogue.series[number])
                if before != after:
                    self._move(row, after)
                    left.append(before)
                    entered.append(after)
            for number in self._groups_of_host.get(host, ()):
                self._limit(number)
        added = self._add(new)
        gone = [number for number in dict.fromkeys(left) if number != OUT and not self.groups[number].rows]
        for number in gone:
            self.machine.clear(number)
        entered += self.groups_of(added)
        return Followed(added, [n for n in entered if n != OUT], [self.groups[n].key for n in gone])

    def groups_of(self, series: Sequence[int]) -> list[int]:
        """The groups of some series of the rule."""
        return list(self.measuring.group_of[self._row_of[series]].tolist()) if series else []

    def _move(self, row: int, group: int) -> None:
        before = int(self.measuring.group_of[row])
        if before != OUT:
            self.groups[before].rows -= 1
        if group != OUT:
            self.groups[group].rows += 1
            if before != OUT and not self.groups[before].rows and self.groups[group].rows == 1:
                # All of one group under another name: its holds go on.
                self.machine.resume(group, self.machine.breaches_of(before))
        self.measuring.move(row, group)

    # --- what they say

    def observe(self, series: I64, times: F64, values: F64, came_at: float) -> None:
        """Takes points that came at a moment by our clock, times in unix seconds."""
        if not self.series or not len(series):
            return
        # Whatever is beyond the last place is no series of this rule, as that place is kept free.
        rows = self._row_of.take(series, mode="clip")
        mine = np.flatnonzero(rows >= 0)
        if len(mine):
            self.measuring.observe(rows[mine], times[mine], values[mine], came_at)

    def propose(self, now: float, behind: F64 | float) -> tuple[list[Transition], F64]:
        """The changes of level that have to be written, and the value of each group.

        Args:
            behind: seconds by which the clock of each row's host is behind ours, 0 when none is.
        """
        values = self.measuring.values(now, behind)
        return self.machine.propose(now, values), values

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

    # --- going on after a restart or a change

    def breaches(self) -> dict[str, list[float]]:
        """Since when groups have been breached, by their keys: what holds need to go on."""
        return {self.groups[row].key: since for row, since in self.machine.breaches().items()}

    def resume(self, breaches: Mapping[str, Sequence[float]]) -> None:
        """Goes on from what `breaches` told."""
        for key, since in breaches.items():
            number = self.numbers.get(key)
            if number is not None:
                self.machine.resume(number, since)
