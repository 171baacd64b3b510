"""The columns of the fleet's table: one value a host, worked out once for all who look."""

from __future__ import annotations

import threading
import time
from collections import Counter, OrderedDict
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from balise.api.spans import seconds
from balise.api.table import ColumnAnswer, TableColumn
from balise.core import filters
from balise.core.moments import NS, nanos
from balise.core.series.steps import Steps
from balise.server.asking import read_filter
from balise.server.errors import bad_field
from balise.server.hosts.directory import Directory, Known, attribute_of
from balise.server.metrics.questions import Metrics, unit_of
from balise.store.events.day_search import Search
from balise.store.events.said import SaidCounts
from balise.store.events.store import EventStore
from balise.store.series.query import TooLarge

F64 = NDArray[np.float64]
FRESH, USED, LOOKED_AT = 10.0, 60.0, 60.0
"""Seconds for which values are fresh, then for how long they are told while newer ones are worked out, and for how long
a column is kept up to date after somebody looked at it."""
MOST_COLUMNS = 64
OVER, COUNTED_OVER = 300.0, 3600.0
"""Seconds over which metrics are taken, and events counted, where nothing is said."""

Matching = Callable[[str | None], Mapping[int, int]]
"""By host how many pass a filter."""


@dataclass(frozen=True)
class Held:
    """A column as it was at a moment, unix seconds: by host number a value."""

    at: float
    answer: ColumnAnswer
    values: Mapping[int, float | str]
    is_fact: bool = False
    """What hosts are rather than do: there it says nothing that one is unlike others."""


class Columns:
    """Works out columns, and keeps those that are looked at up to date beside those who look.

    Args:
        counts: how many of what is counted each host has, by what it is called.
        kits: by host, of a kit of a name, the versions that are at work.
    """

    def __init__(
        self,
        *,
        metrics: Metrics,
        directory: Directory,
        events: EventStore,
        counts: Mapping[str, Matching],
        kits: Callable[[str], Mapping[int, str]],
        clock: Callable[[], float] = time.time,
    ) -> None:
        self._metrics = metrics
        self._directory = directory
        self._said = SaidCounts(events)
        self._counts = counts
        self._kits = kits
        self._clock = clock
        self._lock = threading.Lock()
        self._held: OrderedDict[str, Held] = OrderedDict()
        self._looked_at: OrderedDict[str, tuple[float, TableColumn]] = OrderedDict()
        self._working: dict[str, threading.Lock] = {}

    def of(self, column: TableColumn, place: int) -> Held:
        """The column, which is number `place` of its table. Raises Refused 422 naming the field."""
        if column.fact is not None or column.label is not None:
            return self._told(column)
        read_filter(column.where, f"columns.{place}.where")
        key = column.model_dump_json()
        now = self._clock()
        with self._lock:
            held = self._held.get(key)
            self._looked_at[key] = (now, column)
            self._looked_at.move_to_end(key)
            while len(self._looked_at) > MOST_COLUMNS:
                # Whoever asks for ever more columns gets them, but nobody keeps them up to date.
                self._looked_at.popitem(last=False)
            working = self._working.setdefault(key, threading.Lock())
        if held is not None and now - held.at < USED:
            return held
        # Whoever comes while it is worked out waits for that one.
        with working:
            held = self._held.get(key)
            if held is None or self._clock() - held.at >= FRESH:
                try:
                    held = self._keep(key, self._worked_out(column))
                except filters.FilterError as error:
                    raise bad_field(f"columns.{place}.where", str(error)) from None
        return held

    def look(self) -> None:
        """Works the columns out anew that somebody looks at and that are no longer fresh."""
        now = self._clock()
        with self._lock:
            for key in [key for key, (at, _) in self._looked_at.items() if now - at > LOOKED_AT]:
                del self._looked_at[key]
            self._working = {
                key: lock for key, lock in self._working.items() if key in self._looked_at or lock.locked()
            }
            due = [
                (key, column)
                for key, (_, column) in self._looked_at.items()
                if (held := self._held.get(key)) is None or now - held.at > FRESH
            ]
        for key, column in due:
            self._keep(key, self._worked_out(column))

    def _keep(self, key: str, held: Held) -> Held:
        with self._lock:
            self._held[key] = held
            self._held.move_to_end(key)
            while len(self._held) > MOST_COLUMNS:
                self._held.popitem(last=False)
        return held

    def _worked_out(self, column: TableColumn) -> Held:
        return self._of_metric(column) if column.metric is not None else self._counted(column)

    def _of_metric(self, column: TableColumn) -> Held:
        now = self._clock()
        metric = self._metrics.metric(column.metric or "")
        if metric is None:
            missing = f"no metric {column.metric!r} has arrived yet"
            return Held(now, ColumnAnswer(name=column.name, unit="", kind="number", problem=missing), {})
        over = seconds(column.over) if column.over else OVER
        answer = ColumnAnswer(name=column.name, unit=unit_of(metric.unit, column.take, metric.kind), kind="number")
        selection = self._metrics.selector.select(metric, column.where, ["host"])
        # What is asked of longer times is in whole steps of what is kept of those.
        end = nanos(now) if over < 3600 else -(-nanos(now) // (300 * NS)) * 300 * NS
        try:
            found = self._metrics.engine.answer(
                metric, selection, Steps(end - nanos(over), nanos(over), 1), column.take
            )
        except TooLarge as error:
            return Held(now, answer.model_copy(update={"problem": str(error)}), {})
        values = found.values[:, -1] if found.steps.count == 1 else _newest(found.values)
        known = {h: float(v) for h, v in zip(selection.hosts, values.tolist(), strict=True) if np.isfinite(v)}
        return Held(now, answer, known)

    def _counted(self, column: TableColumn) -> Held:
        now = self._clock()
        what = column.count or "alerts"
        answer = ColumnAnswer(name=column.name, unit=f"{{{what[:-1]}}}", kind="number")
        found = self._events(column, now) if what == "events" else self._counts[what](column.where)
        return Held(now, answer, {known.id: float(found.get(known.id, 0)) for known in self._directory.all()})

    def _events(self, column: TableColumn, now: float) -> Mapping[int, int]:
        over = seconds(column.over) if column.over else COUNTED_OVER
        node = read_filter(column.where, "where")
        hosts: Counter[str] = Counter()
        for said in self._said.of(Search(nanos(now - over), nanos(now), "", node)).values():
            hosts.update(said.hosts)
        return {known.id: count for name, count in hosts.items() if (known := self._directory.find(name))}

    def _told(self, column: TableColumn) -> Held:
        """What hosts and people say: always as it is now."""
        name = f"label.{column.label}" if column.label is not None else self.attribute(column.fact or "")
        found = {known.id: value for known in self._directory.all() if (value := self.value(known, name)) is not None}
        numbers = all(isinstance(value, float) for value in found.values()) and bool(found)
        unit = {"fact.memory": "By", "fact.boot_time": "s"}.get(name, "")
        answer = ColumnAnswer(name=column.name, unit=unit, kind="number" if numbers else "text")
        if numbers:
            return Held(self._clock(), answer, found, is_fact=True)
        return Held(self._clock(), answer, {number: _text(value) for number, value in found.items()}, is_fact=True)

    @staticmethod
    def attribute(fact: str) -> str:
        """`os` and the like are told of every host, other facts by its agent."""
        own = fact in ("os", "mode", "state", "name", "host") or filters.is_of_host(fact) or fact.startswith("kit.")
        return fact if own else f"fact.{fact.removeprefix('fact.')}"

    def value(self, known: Known, name: str) -> float | str | None:
        """An attribute of a host as a cell has it; of several values all, with commas."""
        found = self._kits(name[4:]).get(known.id) if name.startswith("kit.") else attribute_of(known, name)
        if isinstance(found, bool):
            return "yes" if found else "no"
        if isinstance(found, int | float):
            return float(found)
        if isinstance(found, list | tuple):
            return ", ".join(str(one) for one in found) or None
        return str(found)[:200] if found not in (None, "") else None

    def members(self, known: Known, name: str) -> list[str]:
        """The groups that a host is in by an attribute: one for each value, and `""` when it has none."""
        found: Any = attribute_of(known, name) if not name.startswith("kit.") else self._kits(name[4:]).get(known.id)
        if isinstance(found, list | tuple):
            return [str(one) for one in found] or [""]
        return [_text(found)] if found not in (None, "") else [""]


def _text(value: object) -> str:
    return f"{value:g}" if isinstance(value, float) else str(value)


def _newest(values: F64) -> F64:
    """The last number of each row; NaN when it has none."""
    known = ~np.isnan(values)
    at = values.shape[1] - 1 - np.argmax(known[:, ::-1], axis=1)
    return np.where(known.any(axis=1), values[np.arange(len(values)), at], np.nan)
