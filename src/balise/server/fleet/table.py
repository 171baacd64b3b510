"""The fleet as a table, sorted and grouped here, page by page in one order."""

from __future__ import annotations

import secrets
import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from operator import attrgetter

import numpy as np
from numpy.typing import NDArray

from balise.api.hosts import STATES_WORST_FIRST, State
from balise.api.spans import seconds
from balise.api.table import GroupValue, HostTable, HostTableQuery, TableColumn, TableGroup, TableOrder, TableRow
from balise.core.health import worst
from balise.core.moments import nanos
from balise.core.outliers import unlike
from balise.core.series.steps import Steps
from balise.server.asking import read_filter
from balise.server.errors import bad_field
from balise.server.fleet.columns import OVER, Columns, Held
from balise.server.hosts.directory import Directory, Known
from balise.server.metrics.questions import Metrics, plain
from balise.store.series.query import TooLarge

F64 = NDArray[np.float64]
MOST_ORDERS = 64
KEPT = 600.0
"""Seconds for which an order is kept, so that its pages follow each other whatever the values do."""
LINE_STEPS = 24
MOST_LINES = 200
"""Rows of a page that have lines."""
MOST_GROUPS = 1000
_RANK = {state: rank for rank, state in enumerate(STATES_WORST_FIRST)}


@dataclass
class _Order:
    at: float
    hosts: list[int]


class Orders:
    """The orders that pages were given in, by a word that nobody guesses."""

    def __init__(self, clock: Callable[[], float] = time.time) -> None:
        self._clock = clock
        self._lock = threading.Lock()
        self._kept: OrderedDict[str, _Order] = OrderedDict()

    def keep(self, hosts: list[int]) -> str:
        now = self._clock()
        with self._lock:
            for key in [key for key, order in self._kept.items() if now - order.at > KEPT]:
                del self._kept[key]
            while len(self._kept) >= MOST_ORDERS:
                self._kept.popitem(last=False)
            key = secrets.token_urlsafe(9)
            self._kept[key] = _Order(now, hosts)
        return key

    def find(self, cursor: str) -> tuple[str, list[int], int]:
        """The order a cursor goes on in, and where. Raises Refused 422."""
        key, _, place = cursor.partition(".")
        with self._lock:
            order = self._kept.get(key)
        if order is None or not place.isdecimal() or len(place) > 9:
            raise bad_field("cursor", "not one that is kept (they are for ten minutes): leave it out to begin anew")
        return key, order.hosts, int(place)


class FleetTable:
    """Answers the table."""

    def __init__(self, *, directory: Directory, metrics: Metrics, columns: Columns) -> None:
        self._directory = directory
        self._metrics = metrics
        self._columns = columns
        self._orders = Orders()

    def page(self, query: HostTableQuery) -> HostTable:
        """Raises Refused 422 naming the field."""
        columns = [self._columns.of(column, place) for place, column in enumerate(query.columns)]
        chosen = self._directory.matching(read_filter(query.where, "where"))
        members = self._members(chosen, query.group_by) if query.group_by else None
        if query.cursor is None:
            order, at = [known.id for known in self._sorted(chosen, query.sort, columns)], 0
            key = self._orders.keep(order) if len(order) > query.limit else ""
        else:
            key, order, at = self._orders.find(query.cursor)
        page = [known for number in order[at : at + query.limit] if (known := self._directory.get(number)) is not None]
        unusual = [self._unusual(held, chosen, members) for held in columns]
        lines = self._lines(query, page[:MOST_LINES]) if query.lines else []
        return HostTable(
            columns=[held.answer for held in columns],
            items=[self._row(known, columns, unusual, lines) for known in page],
            groups=self._groups(chosen, members, columns) if members is not None else None,
            next=f"{key}.{at + query.limit}" if key and at + query.limit < len(order) else None,
            total=len(order),
            as_of=min((held.at for held in columns), default=time.time()),
        )

    def _members(self, chosen: Sequence[Known], group_by: str) -> dict[int, list[str]]:
        """Of each host what it is grouped by."""
        attribute = self._columns.attribute(group_by)
        return {known.id: self._columns.members(known, attribute) for known in chosen}

    # --- order

    @staticmethod
    def _sorted(chosen: list[Known], sort: Sequence[TableOrder], columns: Sequence[Held]) -> list[Known]:
        found = sorted(chosen, key=attrgetter("name"))
        for order in reversed(sort or [TableOrder(by="state")]):
            if order.column is None:
                by_name = order.by == "name"
                found.sort(key=lambda k: k.name if by_name else _RANK[k.state], reverse=order.descending)
                continue
            values = columns[order.column].values
            known = [k for k in found if k.id in values]
            known.sort(key=lambda k: _sort_key(values[k.id]), reverse=order.descending)
            found = [*known, *(k for k in found if k.id not in values)]
        return found

    # --- what a row shows

    def _row(
        self,
        known: Known,
        columns: Sequence[Held],
        unusual: Sequence[Mapping[int, float]],
        lines: Sequence[Mapping[int, list[float | None]] | None],
    ) -> TableRow:
        return TableRow(
            host=known.name,
            state=known.state,
            values=[held.values.get(known.id) for held in columns],
            unusual=[of_column.get(known.id) for of_column in unusual],
            lines=[line.get(known.id) if line is not None else None for line in lines] if lines else None,
        )

    @staticmethod
    def _unusual(held: Held, chosen: Sequence[Known], members: Mapping[int, list[str]] | None) -> dict[int, float]:
        """By host how unlike the others of its group a value is, where it is; without groups all are one."""
        if held.answer.kind != "number" or held.is_fact or not held.values:
            return {}
        mine = [known.id for known in chosen if known.id in held.values]
        numbers: dict[str, int] = {}
        names = [members[n][0] if members is not None else "" for n in mine]
        groups = np.array([numbers.setdefault(name, len(numbers)) for name in names], np.int64)
        away = unlike(np.array([held.values[n] for n in mine], np.float64), groups)
        return {n: round(float(one), 1) for n, one in zip(mine, away.tolist(), strict=True) if np.isfinite(one)}

    def _lines(self, query: HostTableQuery, page: Sequence[Known]) -> list[Mapping[int, list[float | None]] | None]:
        """Of each column that is of a metric its course for the hosts of a page."""
        wanted = {known.id for known in page}
        return [self._course(column, wanted) if column.metric is not None else None for column in query.columns]

    def _course(self, column: TableColumn, wanted: set[int]) -> Mapping[int, list[float | None]]:
        metric = self._metrics.metric(column.metric or "")
        if metric is None:
            return {}
        whole = self._metrics.selector.select(metric, column.where, ["host"])
        selection = whole.of_hosts(wanted)
        width = max(15.0, (seconds(column.over) if column.over else 12 * OVER) / LINE_STEPS)
        end = nanos(time.time())
        steps = Steps(end - nanos(width) * LINE_STEPS, nanos(width), LINE_STEPS)
        if not len(selection.series):
            return {}
        try:
            found = self._metrics.engine.answer(metric, selection, steps, column.take)
        except TooLarge:
            return {}
        return {h: plain(line) for h, line in zip(selection.hosts, found.values, strict=True)}

    # --- groups

    def _groups(
        self, chosen: Sequence[Known], members: Mapping[int, list[str]], columns: Sequence[Held]
    ) -> list[TableGroup]:
        """The worst first, then the largest."""
        by_name: dict[str, list[Known]] = {}
        for known in chosen:
            for name in members[known.id]:
                by_name.setdefault(name, []).append(known)
        groups = [self._group(name, hosts, columns) for name, hosts in by_name.items()]
        groups.sort(key=lambda g: (_RANK[g.state], -g.states.get(g.state, 0), -g.hosts, g.name))
        return groups[:MOST_GROUPS]

    @staticmethod
    def _group(name: str, hosts: Sequence[Known], columns: Sequence[Held]) -> TableGroup:
        states: dict[State, int] = {}
        for known in hosts:
            states[known.state] = states.get(known.state, 0) + 1
        return TableGroup(
            name=name,
            hosts=len(hosts),
            state=worst(states),
            states=states,
            values=[_summed(hosts, held) if held.answer.kind == "number" else None for held in columns],
        )


def _summed(hosts: Sequence[Known], held: Held) -> GroupValue | None:
    known = [(float(held.values[k.id]), k.name) for k in hosts if k.id in held.values]
    if not known:
        return None
    values = [value for value, _ in known]
    most, host = max(known)
    return GroupValue(
        sum=sum(values), mean=sum(values) / len(values), least=min(values), most=most, worst=host, hosts=len(known)
    )


def _sort_key(value: float | str) -> tuple[bool, float, str]:
    return (isinstance(value, str), 0.0 if isinstance(value, str) else value, value if isinstance(value, str) else "")
