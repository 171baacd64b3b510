"""Which series there are: names to ids, kept in memory and written with the first points that use them."""

from __future__ import annotations

import json
import threading
from collections.abc import Sequence
from dataclasses import dataclass, field
from sys import intern

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection, insert, select

from balise.core.series.wire import Kind, PointKind
from balise.store.series import tables
from balise.store.series.layouts import Layout, Layouts

I64 = NDArray[np.int64]
Attributes = tuple[tuple[str, str], ...]


NEXT = "next series"


MOST_METRICS, MOST_METRICS_A_HOST = 50_000, 5_000
"""Names of metrics that senders may make: whoever makes more has put into names what belongs into attributes."""


class TooMany(Exception):
    """A host has more series than it may."""


@dataclass(frozen=True, slots=True)
class Series:
    id: int
    host: int
    metric: int
    attributes: Attributes
    part: str
    kind: PointKind


@dataclass
class Metric:
    id: int
    name: str
    unit: str
    kind: Kind
    description: str
    series: list[int] = field(default_factory=list)
    attributes: set[str] = field(default_factory=set)
    version: int = 0
    """Raised when series come or go."""
    removals: int = 0


@dataclass
class Pending:
    """What has a number but is not written yet."""

    metrics: list[Metric] = field(default_factory=list)
    series: list[Series] = field(default_factory=list)
    layouts: list[Layout] = field(default_factory=list)

    def write(self, connection: Connection) -> None:
        if self.metrics:
            connection.execute(
                insert(tables.metric),
                [
                    {"id": m.id, "name": m.name, "unit": m.unit, "kind": m.kind, "description": m.description}
                    for m in self.metrics
                ],
            )
        if self.series:
            connection.execute(insert(tables.series), [_series_row(s) for s in self.series])
        if self.layouts:
            rows = [{"id": w.id, "series": w.series.tobytes()} for w in self.layouts]
            connection.execute(insert(tables.layout), rows)


class Catalogue:
    """Names and numbers. Safe to use from several threads."""

    def __init__(self, *, most_series_a_host: int = 50_000, most_series: int = 3_000_000) -> None:
        self._lock = threading.Lock()
        self._most_a_host = most_series_a_host
        self._most = most_series
        self.metrics: dict[str, Metric] = {}
        self.metric_by_id: dict[int, Metric] = {}
        self.series: dict[int, Series] = {}
        self._ids: dict[tuple[int, int, Attributes, str, PointKind], int] = {}
        self._of_host: dict[int, int] = {}
        self._metrics_of: dict[int, dict[int, list[int]]] = {}
        self.layouts = Layouts()
        self._next_series = 1
        self._pending = Pending()
        self.refused = 0

    def load(self, connection: Connection) -> None:
        """Reads all that is written."""
        for row in connection.execute(select(tables.metric)):
            self._add_metric(Metric(row.id, row.name, row.unit, row.kind, row.description))
        for row in connection.execute(select(tables.series)):
            attributes = tuple((intern(k), intern(v)) for k, v in json.loads(row.attributes))
            self._add_series(Series(row.id, row.host, row.metric, attributes, intern(row.part), row.kind))
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
        key = (host, metric.id, attributes, part, kind)
        found = self._ids.get(key)
        if found is not None:
            return found
        with self._lock:
            found = self._ids.get(key)
            if found is not None:
                return found
            if self._of_host.get(host, 0) >= self._most_a_host or len(self.series) >= self._most:
                self.refused += 1
                raise TooMany
            named = tuple((intern(k), intern(v)) for k, v in attributes)
            made = Series(self._next_series, host, metric.id, named, intern(part), kind)
            self._add_series(made)
            self._pending.series.append(made)
            return made.id

    def may_have_metric(self, host: int, name: str) -> bool:
        """Whether a host may send a metric of this name, which may be a new one."""
        known = self.metrics.get(name)
        own = self._metrics_of.get(host, {})
        if known is not None and known.id in own:
            return True
        if len(own) < MOST_METRICS_A_HOST and (known is not None or len(self.metrics) < MOST_METRICS):
            return True
        self.refused += 1
        return False

    def find(self, host: int, metric: Metric, attributes: Attributes, part: str, kind: PointKind) -> int | None:
        """The number of a series, if there is one."""
        return self._ids.get((host, metric.id, attributes, part, kind))

    def metrics_of(self, host: int) -> set[int]:
        """The numbers of the metrics a host has series of."""
        return set(self._metrics_of.get(host, ()))

    def series_of(self, metric: int, host: int) -> list[int]:
        """The numbers of a host's series of a metric."""
        return list(self._metrics_of.get(host, {}).get(metric, ()))

    def take_pending(self) -> Pending:
        """What has to be written before any points that use it; `restore` it if the writing fails."""
        with self._lock:
            taken, self._pending = self._pending, Pending()
            taken.layouts = self.layouts.take_pending()
            return taken

    def restore(self, taken: Pending) -> None:
        with self._lock:
            now = self._pending
            self._pending = Pending(taken.metrics + now.metrics, taken.series + now.series)
            self.layouts.restore(taken.layouts)

    def crowded(self, share: float) -> list[tuple[int, int]]:
        """Hosts that have more than a share of the series they may have, or all hosts when the console has: each with
        how many are too many."""
        with self._lock:
            most = int(self._most_a_host * share)
            if len(self.series) > self._most * share:
                most = min(most, int(self._most * share) // max(1, len(self._of_host)))
            return [(host, count - most) for host, count in self._of_host.items() if count > most]

    def of_host(self, host: int) -> list[int]:
        """The numbers of all series of a host."""
        with self._lock:
            return [number for numbers in self._metrics_of.get(host, {}).values() for number in numbers]

    def forget(self, connection: Connection, numbers: Sequence[int]) -> None:
        """Forgets series, in the table and, once that is committed, in memory; their numbers are given to nobody."""
        connection.exec_driver_sql("DELETE FROM series WHERE id = ?", [(number,) for number in numbers])
        connection.exec_driver_sql(
            "INSERT OR REPLACE INTO note (name, value) VALUES (?, ?)", (NEXT, float(self._next_series))
        )
        connection.commit()
        gone = set(numbers)
        with self._lock:
            for number in gone:
                one = self.series.pop(number)
                del self._ids[(one.host, one.metric, one.attributes, one.part, one.kind)]
                self._of_host[one.host] -= 1
            for metric in self.metric_by_id.values():
                if gone.intersection(metric.series):
                    metric.series = [number for number in metric.series if number not in gone]
                    metric.version += 1
                    metric.removals += 1
            for by_metric in self._metrics_of.values():
                for key, held in list(by_metric.items()):
                    left = [number for number in held if number not in gone]
                    by_metric[key] = left
                    if not left:
                        del by_metric[key]
        self.layouts.forget_with(gone)

    def _add_metric(self, metric: Metric) -> None:
        self.metric_by_id[metric.id] = metric
        self.metrics[metric.name] = metric

    def _add_series(self, one: Series) -> None:
        self.series[one.id] = one
        self._ids[(one.host, one.metric, one.attributes, one.part, one.kind)] = one.id
        self._of_host[one.host] = self._of_host.get(one.host, 0) + 1
        self._metrics_of.setdefault(one.host, {}).setdefault(one.metric, []).append(one.id)
        metric = self.metric_by_id[one.metric]
        metric.attributes.update(k for k, _ in one.attributes)
        metric.series.append(one.id)
        metric.version += 1
        self._next_series = max(self._next_series, one.id + 1)


def _series_row(one: Series) -> dict[str, object]:
    return {
        "id": one.id,
        "host": one.host,
        "metric": one.metric,
        "attributes": json.dumps(one.attributes, ensure_ascii=False, separators=(",", ":")),
        "part": one.part,
        "kind": one.kind,
    }
