"""Which series there are: names to ids, kept in memory and written with the first points that use them."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from dataclasses import dataclass, field
from sys import intern
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection, select

from balise.core.series.portions import apart, has_any
from balise.core.series.wire import Attributes, Kind, PointKind, Trait
from balise.store.database import insert_into
from balise.store.series import tables
from balise.store.series.layouts import Layout, Layouts
from balise.store.series.numbers import LOOSE, Numbers
from balise.store.series.own import OwnSeries, key_of
from balise.store.series.roster import Names, Roster
from balise.store.series.written import (
    read_series,
    read_traits,
    remove_other_traits,
    remove_series,
    write_series,
    write_traits,
)

I64 = NDArray[np.int64]

NEXT = "next series"


MOST_METRICS, MOST_METRICS_A_HOST = 50_000, 5_000
"""Names of metrics that senders may make: whoever makes more has put into names what belongs into attributes."""
MOST_TOGETHER = 1000
"""Names that come together of which a metric remembers that it noted them."""
MOST_NOTED = 200_000
"""Pairs of a metric and such names of which the catalogue does."""


class TooMany(Exception):
    """A host has more series than it may."""


@dataclass
class Metric:
    id: int
    name: str
    unit: str
    kind: Kind
    description: str
    series: Numbers = field(default_factory=Numbers)
    attributes: set[str] = field(default_factory=set)
    removals: int = 0
    """How often series have gone."""
    _together: set[Names] = field(default_factory=set)

    @property
    def version(self) -> tuple[int, int]:
        """Another when series come or go."""
        return len(self.series), self.removals

    def note_names(self, names: set[Names]) -> None:
        """Series have attributes of these names together."""
        fresh = names - self._together
        if fresh:
            self._together = fresh if len(self._together) > MOST_TOGETHER else self._together | fresh
            self.attributes.update(*fresh)


@dataclass
class Pending:
    """What has a number but is not written yet."""

    metrics: list[Metric] = field(default_factory=list)
    traits: list[tuple[int, Trait]] = field(default_factory=list)
    series: list[I64] = field(default_factory=list)
    """Runs of numbers."""
    layouts: list[Layout] = field(default_factory=list)

    def write(self, connection: Connection, roster: Roster) -> None:
        rows = [
            {"id": m.id, "name": m.name, "unit": m.unit, "kind": m.kind, "description": m.description}
            for m in self.metrics
        ]
        insert_into(connection, tables.metric, rows)
        write_traits(connection, self.traits)
        if self.series:
            write_series(connection, roster, np.concatenate(self.series))
        insert_into(connection, tables.layout, [{"id": w.id, "series": w.series.tobytes()} for w in self.layouts])


class Keys(NamedTuple):
    """Keys of series, whichever host's, [n]; good as long as nothing was forgotten since."""

    held: I64
    age: int


Wanted = tuple[Metric, Sequence[Trait]]


class Catalogue:
    """Names and numbers. Safe to use from several threads."""

    def __init__(self, *, most_series_a_host: int = 50_000, most_series: int = 5_000_000) -> None:
        self._lock = threading.Lock()
        self._most_a_host = most_series_a_host
        self._most = most_series
        self.metrics: dict[str, Metric] = {}
        self.metric_by_id: dict[int, Metric] = {}
        self.series = Roster()
        self._own: dict[int, OwnSeries] = {}
        self.layouts = Layouts()
        self._next_series = 1
        self._pending = Pending()
        self.refused = 0
        self._noted: set[int] = set()
        """Metrics with the number of names that they noted."""
        self._noted_of = 0
        # Those of kin are the same: what was worked out for the last that came holds for the next.
        self._last_noted = self._last_metrics = b""
        self._firsts: list[int] = []
        """The first numbers of those that came with these metrics, from which all of these count theirs."""
        self._last_order = np.empty(0, np.int64)
        self._age = 0
        """Raised when traits are forgotten: what was remembered of their keys is not theirs any more."""

    def load(self, connection: Connection, *, tidy: bool = False) -> None:
        """Reads all that is written; if it is to be tidy, what nothing needs any more is removed."""
        for row in connection.execute(select(tables.metric)):
            self._add_metric(Metric(row.id, row.name, row.unit, row.kind, row.description))
        self._load_series(connection, tidy)
        for row in connection.execute(select(tables.layout)):
            self.layouts.add(row.id, np.frombuffer(row.series, np.int64))
        # Numbers of series that were forgotten are never given to others: what is left of them is in old blocks.
        kept = connection.execute(select(tables.note.c.value).where(tables.note.c.name == NEXT)).scalar()
        self._next_series = max(self._next_series, int(kept or 0))

    def metric(self, name: str, unit: str, kind: Kind, description: str) -> Metric:
        """The metric of a name; what its first sender said of it stays."""
        found = self.metrics.get(name)
        if found:
            return found
        with self._lock:
            if name not in self.metrics:
                made = Metric(len(self.metric_by_id) + 1, name, unit, kind, description)
                self._add_metric(made)
                self._pending.metrics.append(made)
            return self.metrics[name]

    def series_id(self, host: int, metric: Metric, attributes: Attributes, part: str, kind: PointKind) -> int:
        """The number of a series, a new one if need be.

        Raises:
            TooMany: the host, or the console, has all the series it may have.
        """
        made = (attributes, part, kind)
        found = self._find(host, metric.id, made)
        if found is not None:
            return found
        with self._lock:
            found = self._find(host, metric.id, made)
            if found is not None:
                return found
            self._check_room(host)
            number = self._next_series
            self._add_series(number, host, metric, self._trait(made))
            self._pending.series.append(np.array([number]))
            return number

    def _find(self, host: int, metric: int, made: Trait) -> int | None:
        own, trait = self._own.get(host), self.series.find_trait(made)
        return own.find(key_of(metric, trait)) if own is not None and trait is not None else None

    def _check_room(self, host: int) -> None:
        own = self._own.get(host)
        if (own is not None and len(own) >= self._most_a_host) or len(self.series) >= self._most:
            self.refused += 1
            raise TooMany

    def may_make_metric(self, host: int) -> bool:
        """Whether a host may send a metric of a name that nobody has sent."""
        if len(self.metrics) < MOST_METRICS and len(self.metrics_of(host)) < MOST_METRICS_A_HOST:
            return True
        self.refused += 1
        return False

    def numbers_of(self, host: int, wanted: Sequence[Wanted], known: Keys | None = None) -> tuple[I64, Keys]:
        """The numbers of a host's series, new ones if need be, -1 for those that it may not have.

        With them comes what finds those of another host faster.
        """
        with self._lock:
            keys = known if known is not None and known.age == self._age else self._keys_of(wanted)
            return self._numbered(host, keys.held), keys

    def layout_like(self, host: int, known: Keys, places: I64, traits: Sequence[Trait], which: I64) -> Layout | None:
        """The layout of the series that are those of `known` but that those at `places` [n] have `traits[which]`, new
        ones if need be; None when what is known is not good any more, or the host may not have them all."""
        with self._lock:
            if known.age != self._age or not self._has_room(self._own.get(host), len(known.held)):
                return None
            numbers = np.array([self.series.trait(made) for made in traits], np.int64)
            held = known.held.copy()
            held[places] = held[places] >> 32 << 32 | numbers[which]
            begins = self._next_series
            numbers = self._numbered(host, held)
            # Where all are new they have the next numbers, in order.
            ascending = len(numbers) == self._next_series - begins
        return self.layouts.of(numbers, ascending=ascending)

    def _has_room(self, own: OwnSeries | None, more: int) -> bool:
        """Whether a host may have so many more, of whichever metrics."""
        held = len(own) if own is not None else 0
        return held + more <= min(self._most_a_host, MOST_METRICS_A_HOST) and len(self.series) + more <= self._most

    def _numbered(self, host: int, keys: I64) -> I64:
        own = self._own.setdefault(host, OwnSeries())
        if not len(own):
            return self._make_many(host, own, keys)
        found = own.find_many(keys)
        missing = np.flatnonzero(found < 0)
        if len(missing):
            found[missing] = self._make_many(host, own, keys[missing])
        return found

    def _keys_of(self, wanted: Sequence[Wanted]) -> Keys:
        held = [key_of(metric.id, self._trait(made)) for metric, traits in wanted for made in traits]
        return Keys(np.array(held, np.int64), self._age)

    def _trait(self, made: Trait) -> int:
        found = self.series.find_trait(made)
        return self.series.trait(_interned(made)) if found is None else found

    def _make_many(self, host: int, own: OwnSeries, keys: I64) -> I64:
        order = self._order_of(keys) if self._has_room(own, len(keys)) else None
        if order is not None:
            numbers = np.arange(self._next_series, self._next_series + len(keys))
            self._note_many(host, own, keys, numbers, order)
            return numbers
        wanted, first, which = np.unique(keys, return_index=True, return_inverse=True)
        order = np.argsort(first)
        if len(own) + len(wanted) > MOST_METRICS_A_HOST:
            held = own.metrics()
            fresh = np.setdiff1d(wanted >> 32, np.fromiter(held, np.int64, len(held)))
            may = ~np.isin(wanted >> 32, fresh[max(0, MOST_METRICS_A_HOST - len(held)) :])
            order = order[may[order]]
        taken = order[: max(0, min(self._most_a_host - len(own), self._most - len(self.series)))]
        numbers = np.full(len(wanted), -1, np.int64)
        numbers[taken] = self._next_series + np.arange(len(taken))
        chosen = wanted[taken]
        self._note_many(host, own, chosen, numbers[taken], np.argsort(chosen))
        if len(taken) < len(wanted):
            self._refuse(wanted[numbers < 0])
        return numbers[which]

    def _order_of(self, keys: I64) -> I64 | None:
        """The places of keys, those of the least first; None when one occurs twice. That of kin is the same, which is
        looked at first: whoever sorts gives its turn away."""
        order = self._last_order
        if len(order) != len(keys) or not _ascends(keys[order]):
            order = np.argsort(keys)
            if not _ascends(keys[order]):
                return None
            self._last_order = order
        return order

    def _refuse(self, keys: I64) -> None:
        self.refused += len(keys)
        # What nobody has is not remembered.
        self.series.drop_unused((keys & 0xFFFFFFFF).tolist())
        self._age += 1

    def _note_many(self, host: int, own: OwnSeries, keys: I64, numbers: I64, order: I64) -> None:
        """New series of a host, their numbers ascending; `order` is that of their keys."""
        if not len(keys):
            return
        metrics, traits = keys >> 32, keys & 0xFFFFFFFF
        self.series.add_many(int(numbers[0]), host, metrics, traits)
        own.add_many(keys[order], numbers[order])
        if len(self._firsts) >= LOOSE or metrics.tobytes() != self._last_metrics:
            self._last_metrics, self._firsts = metrics.tobytes(), []
            for number, mine in apart(metrics):
                self.metric_by_id[number].series.follow(self._firsts, mine)
        self._firsts.append(int(numbers[0]))
        self._note_names(metrics, traits)
        self._pending.series.append(numbers)
        self._next_series = int(numbers[-1]) + 1

    def _note_names(self, metrics: I64, traits: I64) -> None:
        """Series of these metrics have attributes of the names that these traits have."""
        if self._noted_of != self.series.renumbered or len(self._noted) > MOST_NOTED:
            self._noted, self._noted_of = set(), self.series.renumbered
            self._last_noted = b""
        together = metrics << 32 | self.series.name_numbers(traits)
        if together.tobytes() == self._last_noted:
            return
        fresh = set(together.tolist()) - self._noted
        self._noted |= fresh
        self._last_noted = together.tobytes()
        for one in fresh:
            self.metric_by_id[one >> 32].note_names({self.series.names(one & 0xFFFFFFFF)})

    def find(self, host: int, metric: Metric, attributes: Attributes, part: str, kind: PointKind) -> int | None:
        """The number of a series, if there is one."""
        return self._find(host, metric.id, (attributes, part, kind))

    def metrics_of(self, host: int) -> set[int]:
        """The numbers of the metrics a host has series of."""
        own = self._own.get(host)
        return own.metrics() if own is not None else set()

    def series_of(self, metric: int, host: int) -> list[int]:
        """The numbers of a host's series of a metric."""
        own = self._own.get(host)
        return own.of_metric(metric) if own is not None else []

    def take_pending(self) -> Pending:
        """What has to be written before any points that use it; `restore` it if the writing fails."""
        with self._lock:
            taken, self._pending = self._pending, Pending()
            taken.traits += self.series.take_made()
            taken.layouts = self.layouts.take_pending()
            return taken

    def restore(self, taken: Pending) -> None:
        with self._lock:
            now = self._pending
            self._pending = Pending(taken.metrics + now.metrics, taken.traits + now.traits, taken.series + now.series)
            self.layouts.restore(taken.layouts)

    def crowded(self, share: float) -> list[tuple[int, int]]:
        """Hosts that have more than a share of the series they may have, or all hosts when the console has: each with
        how many are too many."""
        with self._lock:
            most = int(self._most_a_host * share)
            if len(self.series) > self._most * share:
                most = min(most, int(self._most * share) // max(1, len(self._own)))
            return [(host, len(own) - most) for host, own in self._own.items() if len(own) > most]

    def of_host(self, host: int) -> list[int]:
        """The numbers of all series of a host."""
        own = self._own.get(host)
        return own.numbers() if own is not None else []

    def forget(self, connection: Connection, numbers: Sequence[int]) -> None:
        """Forgets series, in the table and, once that is committed, in memory; their numbers are given to nobody."""
        remove_series(connection, numbers)
        connection.exec_driver_sql(
            "INSERT OR REPLACE INTO note (name, value) VALUES (?, ?)", (NEXT, float(self._next_series))
        )
        connection.commit()
        gone = np.unique(np.array(numbers, np.int64))
        with self._lock:
            for host in np.unique(self.series.hosts_of(gone)).tolist():
                self._own[host].forget(gone)
            self._follow_no_more()
            for metric in np.unique(self.series.metrics_of(gone)).tolist():
                held = self.metric_by_id[metric]
                held.series.remove(gone)
                held.removals += 1
            for number in gone.tolist():
                self.series.remove(number)
            self._age += 1
        self.layouts.forget_with(gone)

    def _add_metric(self, metric: Metric) -> None:
        self.metric_by_id[metric.id] = metric
        self.metrics[metric.name] = metric

    def _add_series(self, number: int, host: int, metric: Metric, trait: int) -> None:
        self.series.add(number, host, metric.id, trait)
        self._own.setdefault(host, OwnSeries()).add(key_of(metric.id, trait), number)
        self._note_names(np.array([metric.id]), np.array([trait]))
        self._follow_no_more()
        metric.series.append(number)
        self._next_series = max(self._next_series, number + 1)

    def _follow_no_more(self) -> None:
        """Something else becomes of what metrics have than that they follow others."""
        self._last_metrics, self._firsts = b"", []

    def _load_series(self, connection: Connection, tidy: bool) -> None:
        found = read_series(connection)
        used = np.unique(found.traits)
        if tidy:
            remove_other_traits(connection, used)
        for number, made in read_traits(connection, used):
            self.series.load_trait(number, made)
        if len(found.numbers):
            self._take_up(*found)

    def _take_up(self, numbers: I64, hosts: I64, metrics: I64, traits: I64) -> None:
        """Series that are written, their numbers ascending."""
        self.series.load(numbers, hosts, metrics, traits)
        for host, mine in apart(hosts):
            own = self._own[host] = OwnSeries()
            keys = metrics[mine] << 32 | traits[mine]
            order = np.argsort(keys)
            own.add_many(keys[order], numbers[mine][order])
        for number, mine in apart(metrics):
            metric = self.metric_by_id[number]
            metric.series.extend(0, numbers[mine])
        self._note_names(metrics, traits)
        self._next_series = int(numbers[-1]) + 1


def _ascends(values: I64) -> bool:
    return not has_any(values[1:] <= values[:-1])


def _interned(made: Trait) -> Trait:
    attributes, part, kind = made
    return tuple((intern(k), intern(v)) for k, v in attributes), intern(part), kind
