"""The series of one metric that a rule looks at."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from balise.api.metrics import Value
from balise.core import filters
from balise.core.filters import Filter
from balise.core.rules.measuring import OUT, Measuring, Row
from balise.core.rules.room import Room
from balise.core.rules.row_map import NONE, RowMap
from balise.core.series.portions import apart, has_any
from balise.server.hosts.directory import Directory
from balise.server.metrics.questions import unit_of
from balise.server.rules.groups import Groups, Kin
from balise.store.series.catalogue import Catalogue, Metric
from balise.store.series.query import group_values, lookup_of, values_of_host
from balise.store.series.roster import Series

ALIKE = 4
"""Series with the same attributes from which on it pays to look at those once."""
F64 = NDArray[np.float64]
I64 = NDArray[np.int64]


@dataclass(frozen=True)
class Followed:
    """What became of a feed when hosts changed: the series taken up, those that moved with the groups they were in and
    are in (`OUT` for none)."""

    added: list[int]
    moved: list[tuple[int, int]]


class SeriesFeed:
    """Series with their windows. What happens to hosts is followed without losing what windows hold."""

    def __init__(
        self,
        value: Value,
        over: float,
        *,
        hosts: Filter | None,
        groups: Groups,
        catalogue: Catalogue,
        directory: Directory,
    ) -> None:
        self.value = value
        self._groups = groups
        self._catalogue = catalogue
        self._directory = directory
        self._where = filters.parse(value.where) if value.where else None
        self._hosts = hosts
        self._of_hosts = self._where is None and all(n == "host" or filters.is_of_host(n) for n in groups.each)
        """Whether all series of a host are in one group."""
        others = {name for name in groups.each if name != "host"}
        others |= filters.attributes_of(self._where) if self._where is not None else set()
        self._are_kin = "host" in groups.each and not any(n == "host" or filters.is_of_host(n) for n in others)
        """Whether series of the same attributes are in groups that are alike but for their hosts."""
        self.asks_of_hosts = (
            hosts is not None or self._where is not None or any(filters.is_of_host(name) for name in groups.each)
        )
        """Whether labels and groups of hosts tell which series it has, or in which group they are."""
        self.over = over
        self.measuring = Measuring(value.take, over)
        self._seen = 0
        self._removals = 0
        self._row_of = RowMap()
        self.series: list[int] = []
        self._room = Room({"hosts": -1})
        self.hosts = np.empty(0, np.int64)
        """Of each row its host."""

    @property
    def metric(self) -> Metric | None:
        return self._catalogue.metrics.get(self.value.metric)

    @property
    def unit(self) -> str:
        metric = self.metric
        return unit_of(metric.unit, self.value.take, metric.kind) if metric else ""

    # --- which series

    def find_series(self) -> list[int]:
        """Takes up series that are new since the last time; answers them."""
        metric = self.metric
        if metric is None or (len(metric.series) == self._seen and metric.removals == self._removals):
            return []
        if metric.removals != self._removals:
            self._forget(metric)
        fresh = metric.series.since(self._seen)
        added = self._add(fresh[self._row_of.rows(fresh) == NONE])
        # Those that could not be taken up are looked at again.
        self._seen += len(fresh)
        return added

    def _forget(self, metric: Metric) -> None:
        """Series have gone from the catalogue: theirs is no row any more."""
        self._removals, self._seen = metric.removals, 0
        for row, number in enumerate(self.series):
            if number not in self._catalogue.series and self.measuring.group_of[row] != OUT:
                self._move(row, OUT)

    def _add(self, numbers: I64) -> list[int]:
        if not len(numbers):
            return []
        roster = self._catalogue.series
        wanted = numbers[roster.has(numbers)]
        groups = self._groups_for(wanted)
        inside = groups != OUT
        if not has_any(inside):
            return []
        wanted, groups = wanted[inside], groups[inside]
        self._groups.count(groups)
        self._row_of.add(wanted, np.arange(len(self.series), len(self.series) + len(wanted)))
        added: list[int] = wanted.tolist()
        self.series.extend(added)
        vars(self).update(self._room.grow(vars(self), len(added)))
        self.hosts[-len(added) :] = roster.hosts_of(wanted)
        kinds = roster.all_kinds(wanted)
        if has_any(kinds.part):
            self.measuring.add(self._rows_for(wanted, groups))
        else:
            self.measuring.add_plain(~(kinds.gauge | kinds.delta), kinds.delta, groups)
        return added

    def _rows_for(self, numbers: I64, groups: I64) -> list[Row]:
        roster = self._catalogue.series
        made = zip(roster.kinds_of(numbers), groups.tolist(), roster.parts_of(numbers), strict=True)
        rows = [Row(kind, group, part) for kind, group, part in made]
        for place in [place for place, row in enumerate(rows) if row.part]:
            one = roster.get(int(numbers[place]))
            rows[place] = replace(rows[place], family=(one.host, one.attributes) if one is not None else None)
        return rows

    def _groups_for(self, numbers: I64) -> I64:
        """The groups of series, of each as `_group_for`."""
        if not self._of_hosts:
            kin = list(apart(self._catalogue.series.trait_numbers(numbers))) if self._are_kin else []
            if 0 < len(kin) * ALIKE <= len(numbers):
                return self._groups_of_kin(numbers, [places for _, places in kin])
            return np.array([self._group_of(number) for number in numbers.tolist()], np.int64)
        hosts = self._catalogue.series.hosts_of(numbers)
        if len(hosts) == 1:
            return self._groups_of_hosts(hosts)
        each = np.unique(hosts)
        return self._groups_of_hosts(each)[each.searchsorted(hosts)]

    def _groups_of_kin(self, numbers: I64, kin_at: Iterable[I64]) -> I64:
        """`_group_of` each of some series, of which many have the same attributes: `kin_at` are the places of those."""
        roster = self._catalogue.series
        hosts = roster.hosts_of(numbers)
        each = np.unique(hosts)
        here = self._here(each)
        are_here = np.isin(each, np.fromiter(here, np.int64, len(here)))[each.searchsorted(hosts)]
        whole = len(here) == len(each)
        found = np.full(len(numbers), OUT)
        for kin_places in kin_at:
            places = kin_places if whole else kin_places[are_here[kin_places]]
            some = filter(None, (roster.get(int(numbers[place])) for place in places))
            kin = self._kin_of(one) if (one := next(some, None)) is not None else None
            if kin is not None:
                own: list[int] = hosts[places].tolist()
                found[places] = self._groups.of_kin(kin, own, [here[host] for host in own])
        return found

    def _here(self, hosts: I64) -> dict[int, str]:
        """Those of some hosts that the rule is for, each with its name, in the order of theirs."""
        names = self._directory.names_here(hosts.tolist())
        return names if self._hosts is None else {h: name for h, name in names.items() if self._is_chosen(h)}

    def _kin_of(self, one: Series) -> Kin | None:
        """What groups of series with the attributes of this one have in common; None when the rule is not for them."""
        if self._where is not None and not filters.matches(self._where, lookup_of(self._directory, one)):
            return None
        return Kin(group_values(self._directory, one, [name for name in self._groups.each if name != "host"]))

    def _group_of(self, number: int) -> int:
        one = self._catalogue.series.get(number)
        return self._group_for(one) if one is not None else OUT

    def _group_for(self, one: Series) -> int:
        """The number of the group a series belongs to, a new one if need be; `OUT` when the rule is not for it."""
        if not self._is_for(one.host):
            return OUT
        if self._where is not None and not filters.matches(self._where, lookup_of(self._directory, one)):
            return OUT
        return self._numbered(group_values(self._directory, one, self._groups.each), one.host)

    def _groups_of_hosts(self, hosts: I64) -> I64:
        """`_group_for` any series of each of some hosts, ascending, where all of one are in one group."""
        here = self._here(hosts)
        found = np.full(len(hosts), OUT)
        whole = len(here) == len(hosts)
        places = slice(None) if whole else np.searchsorted(hosts, np.fromiter(here, np.int64, len(here)))
        if self._groups.each == ["host"]:
            found[places] = self._groups.of_hosts(here, here.values())
        else:
            named = self._groups.each
            found[places] = [self._numbered(values_of_host(self._directory, host, named), host) for host in here]
        return found

    def _numbered(self, values: dict[str, str], host: int) -> int:
        number = self._groups.of(values, host, self._directory.name(host) or "")
        return OUT if number is None else number

    def _is_for(self, host: int) -> bool:
        """Whether the host is here and the rule is for it."""
        return self._directory.is_here(host) and self._is_chosen(host)

    def _is_chosen(self, host: int) -> bool:
        directory = self._directory
        return self._hosts is None or filters.matches(self._hosts, lambda n: directory.attribute(host, n))

    def follow(self, hosts: Iterable[int]) -> Followed:
        """Hosts were added, renamed, labelled anew or retired. Series that `find_series` has not seen yet are left to
        it."""
        metric = self.metric
        if metric is None:
            return Followed([], [])
        found = [n for host in hosts for n in self._catalogue.series_of(metric.id, host)]
        if metric.removals == self._removals and len(metric.series) != self._seen:
            fresh = set(metric.series.since(self._seen).tolist())
            found = [n for n in found if n not in fresh]
        if not found:
            return Followed([], [])
        numbers = np.array(found, np.int64)
        rows = self._row_of.rows(numbers)
        held = rows != NONE
        moved = self._moved(rows[held], numbers[held]) if has_any(held) else []
        return Followed(self._add(numbers[~held]), moved)

    def _moved(self, rows: I64, numbers: I64) -> list[tuple[int, int]]:
        """Puts series that have rows into the groups that they are in now; answers from where to where some went."""
        befores, afters = self.measuring.group_of[rows], self._groups_for(numbers)
        places = (befores != afters).nonzero()[0]
        moved = list(zip(befores[places].tolist(), afters[places].tolist(), strict=True))
        for row, (_, after) in zip(rows[places].tolist(), moved, strict=True):
            self._move(row, after)
        return moved

    def groups_of(self, series: Sequence[int]) -> list[int]:
        """The groups of some series."""
        rows = self._row_of.rows(np.array(series, np.int64))
        return list(self.measuring.group_of[rows].tolist()) if series else []

    def _move(self, row: int, group: int) -> None:
        before = int(self.measuring.group_of[row])
        self._groups.recount(None if before == OUT else before, None if group == OUT else group)
        self.measuring.move(row, group)

    # --- what they say

    def observe(self, series: I64, times: F64, values: F64, came_at: float) -> tuple[I64, F64]:
        """Takes points that came at a moment by our clock, times in unix seconds; answers of which rows, and when."""
        rows = self._row_of.rows(series)
        mine = (rows >= 0).nonzero()[0]
        if len(mine):
            self.measuring.observe(rows[mine], times[mine], values[mine], came_at)
        return rows[mine], times[mine]

    def rows_of(self, series: I64, times: F64) -> tuple[I64, F64]:
        """The rows of those series that the rule looks at, and the times that go with them."""
        rows = self._row_of.rows(series)
        return rows[rows >= 0], times[rows >= 0]

    def values(self, now: float, behind: F64 | float, groups: int) -> F64:
        """What each of `groups` groups measures.

        Args:
            behind: seconds by which the clock of each row's host is behind ours, 0 when none is.
        """
        return padded(self.measuring.values(now, behind), groups)

    def last_heard(self, groups: int) -> F64:
        """When each group was heard last, unix seconds; NaN for never."""
        out = np.full(groups, np.nan)
        mine = self.measuring.group_of >= 0
        times = self.measuring.windows.last_time
        times = np.where(np.isfinite(times), times, np.nan)
        np.fmax.at(out, self.measuring.group_of[mine], times[mine])
        return out


def padded(values: F64, groups: int) -> F64:
    """The values with NaN for the groups that they do not reach."""
    if len(values) == groups:
        return values
    return np.concatenate([values, np.full(groups - len(values), np.nan)])
