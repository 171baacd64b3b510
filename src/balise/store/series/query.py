"""Answering a metric query: which series, which tier, summed up and put into groups."""

from __future__ import annotations

import json
import threading
from collections import OrderedDict
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from itertools import chain, compress, product
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from balise.api.metrics import Take
from balise.core import filters
from balise.core.filters import Both, Filter
from balise.core.moments import NS, seconds_of
from balise.core.series.combine import Combining
from balise.core.series.percentiles import (
    QUANTILES,
    bucket_of,
    bucket_percentiles,
    point_percentiles,
    with_lower_bounds,
)
from balise.core.series.portions import in_weight
from balise.core.series.steps import TIER_SECONDS, Steps, TierName
from balise.store.series.blocks import CELLS, Blocks, parts_of
from balise.store.series.catalogue import Catalogue, Metric
from balise.store.series.reader import Reader
from balise.store.series.recent import spread
from balise.store.series.roster import Kinds, Series

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]

RAW_AT_MOST = 2 * 86_400 * NS
"""Raw points are read for spans up to this long."""
RAW_POINTS_AT_MOST = 6_000_000
VALUES_AT_MOST = 60_000_000
"""How many points, or steps of series, a question may look at."""
SERIES_AT_MOST = 200_000
NUMBERS_AT_MOST = 4_000_000
"""How many numbers the groups of an answer may have together."""
POINTS_AT_MOST = 12_000_000
"""How many of them may be single points, which take longer."""
GROUP_POINTS = 4 * CELLS
"""Of how many points one percentile may be worked out."""
REMEMBERED = 48 << 20
"""Bytes of selections that are remembered: some dozen of all series of a metric with thousands of hosts."""
HOURS_FROM = 60 * 86_400 * NS
"""Spans longer than this are answered from hours."""
_FIELDS: dict[str, set[str]] = {
    "avg": {"total"},
    "sum": {"total"},
    "min": {"low"},
    "max": {"high"},
    "last": {"last"},
    "count": set(),
}
KeptSince = Callable[[TierName], int]
"""From when on a tier has everything that was sent, unix nanoseconds."""


class Hosts(Protocol):
    """What a query has to know of hosts."""

    version: int

    def attribute(self, host: int, name: str) -> Any:
        """`host` of a host, or what filters say is of the host; None for what it does not have."""

    def name(self, host: int) -> str | None: ...


@dataclass(frozen=True)
class Selection:
    """Series chosen for an answer, each with the number of its group; once for each group that it is in."""

    series: I64
    kinds: Kinds
    groups: I64
    named: list[dict[str, str]]
    hosts: list[int]
    """Of each group, the host of its first series."""

    @property
    def size(self) -> int:
        """About how many bytes of memory it takes."""
        return 25 * len(self.series) + 350 * len(self.named) + 500

    def of_hosts(self, wanted: Collection[int]) -> Selection:
        """Those groups whose first series is of one of these hosts."""
        keep = np.array([host in wanted for host in self.hosts], bool)
        rows = np.flatnonzero(keep[self.groups])
        return Selection(
            self.series[rows],
            self.kinds.rows(rows),
            (np.cumsum(keep) - 1)[self.groups[rows]],
            list(compress(self.named, keep)),
            list(compress(self.hosts, keep)),
        )


def lookup_of(hosts: Hosts, one: Series) -> Any:
    """A function from attribute names, as filters fold them, to what a series has of them."""
    own = filters.by_name((name, _members(value)) for name, value in one.attributes)

    def lookup(name: str) -> Any:
        if name == "host" or filters.is_of_host(name):
            return hosts.attribute(one.host, name)
        return own.get(name)

    return lookup


def _members(text: str) -> Any:
    """A list is kept as its JSON: it is that text, and each of its members."""
    if not text.startswith("["):
        return text
    try:
        found = json.loads(text)
    except ValueError:
        return text
    return [text, *found] if isinstance(found, list) else text


def group_values(hosts: Hosts, one: Series, by: Sequence[str]) -> dict[str, str]:
    """What a series has of some attributes, as text, by which groups are made."""
    return {name: _group_text(value) for name, value in _values_of(hosts, one, by).items()}


def values_of_host(hosts: Hosts, host: int, by: Sequence[str]) -> dict[str, str]:
    """`group_values` of any series of a host, where `by` asks of hosts alone."""
    return {name: _group_text(value) for name, value in _values_of_host(hosts, host, by).items()}


def _values_of_host(hosts: Hosts, host: int, by: Sequence[str]) -> dict[str, Any]:
    return {name: hosts.attribute(host, name) for name in by}


def _values_of(hosts: Hosts, one: Series, by: Sequence[str]) -> dict[str, Any]:
    own = dict(one.attributes)
    return {
        name: hosts.attribute(one.host, name) if name == "host" or filters.is_of_host(name) else own.get(name)
        for name in by
    }


def _memberships(values: Mapping[str, Any], apart: bool) -> Iterator[tuple[str, ...]]:
    """The groups that a series with such values is in: one, unless those are kept apart that its host belongs to."""
    if not apart or not any(isinstance(value, list) for value in values.values()):
        yield tuple(_group_text(value) for value in values.values())
        return
    several = [sorted(v) or [""] if isinstance(v, list) else [_group_text(v)] for v in values.values()]
    yield from product(*several)


class _Groups:
    """The groups of a selection as they are found, each by its values, with the host of its first series."""

    def __init__(self) -> None:
        self.numbers: dict[tuple[str, ...], int] = {}
        self.hosts: list[int] = []

    def number(self, values: tuple[str, ...], host: int) -> int:
        found = self.numbers.setdefault(values, len(self.numbers))
        if found == len(self.hosts):
            self.hosts.append(host)
        return found


class Selector:
    """Finds series by metric and filter, and remembers what it found until something new appears, within `capacity`
    bytes. Safe to use from several threads."""

    def __init__(self, catalogue: Catalogue, hosts: Hosts, *, capacity: int = REMEMBERED) -> None:
        self.catalogue = catalogue
        self._hosts = hosts
        self._lock = threading.Lock()
        self._held: OrderedDict[tuple[object, ...], tuple[tuple[object, int], Selection]] = OrderedDict()
        """By what is asked, with the versions of the metric and of the hosts that it was found in."""
        self._capacity = capacity
        self._size = 0

    def select(self, metric: Metric, where: str | None, by: Sequence[str], *, apart: bool = False) -> Selection:
        """The series of a metric that pass the filter, in groups by the values of `by`.

        A host that belongs to several of what `by` asks is in a group for all of these together, or with `apart` in one
        for each.

        Raises:
            FilterError: the filter cannot be read.
        """
        key, versions = (metric.id, where, tuple(by), apart), (metric.version, self._hosts.version)
        with self._lock:
            held = self._held.get(key)
            if held is not None and held[0] == versions:
                self._held.move_to_end(key)
                return held[1]
        found = self._search(metric, where, by, apart)
        with self._lock:
            self._drop(key)
            if found.size <= self._capacity // 2:
                self._held[key] = (versions, found)
                self._size += found.size
            while self._size > self._capacity:
                self._drop(next(iter(self._held)))
        return found

    def _drop(self, key: tuple[object, ...]) -> None:
        if (held := self._held.pop(key, None)) is not None:
            self._size -= held[1].size

    def let_go(self) -> None:
        """Forgets what can be found again."""
        with self._lock:
            self._held.clear()
            self._size = 0

    def _search(self, metric: Metric, where: str | None, by: Sequence[str], apart: bool) -> Selection:
        of_hosts, own = _parted(filters.parse(where)) if where and where.strip() else ([], [])
        numbers = self._of_hosts(metric, of_hosts)
        if own:
            passing = (self._passes(own, number) for number in numbers.tolist())
            numbers = numbers[np.fromiter(passing, bool, len(numbers))]
        found = _Groups()
        by_hosts = all(name == "host" or filters.is_of_host(name) for name in by)
        series, groups = (self._by_hosts if by_hosts else self._one_by_one)(numbers, by, apart, found)
        named = [dict(zip(by, values, strict=True)) for values in found.numbers]
        return Selection(series, self.catalogue.series.all_kinds(series), groups, named, found.hosts)

    def _by_hosts(self, numbers: I64, by: Sequence[str], apart: bool, found: _Groups) -> tuple[I64, I64]:
        """Series, each once for each group of its host, and which groups those are."""
        hosts = self.catalogue.series.hosts_of(numbers)
        _, first, which = np.unique(hosts, return_index=True, return_inverse=True)
        # Groups are numbered as they come.
        order = np.argsort(first)
        mine = [
            [found.number(values, host) for values in _memberships(_values_of_host(self._hosts, host, by), apart)]
            for host in hosts[first[order]].tolist()
        ]
        place = np.argsort(order)[which]
        sizes = np.array([len(some) for some in mine], np.int64)
        rows, at = spread((np.cumsum(sizes) - sizes)[place], sizes[place])
        return numbers[rows], np.array(list(chain.from_iterable(mine)), np.int64)[at]

    def _one_by_one(self, numbers: I64, by: Sequence[str], apart: bool, found: _Groups) -> tuple[I64, I64]:
        """As `_by_hosts`, where groups are by what series have of their own."""
        chosen: list[int] = []
        groups: list[int] = []
        for number in numbers.tolist():
            one = self.catalogue.series.get(number)
            if one is not None:
                for values in _memberships(_values_of(self._hosts, one, by), apart):
                    chosen.append(number)
                    groups.append(found.number(values, one.host))
        return np.array(chosen, np.int64), np.array(groups, np.int64)

    def _passes(self, parts: Sequence[Filter], number: int) -> bool:
        """Whether a series is there and passes these parts of a filter."""
        one = self.catalogue.series.get(number)
        if one is None:
            return False
        lookup = lookup_of(self._hosts, one)
        return all(filters.matches(part, lookup) for part in parts)

    def _of_hosts(self, metric: Metric, parts: Sequence[Filter]) -> I64:
        """The series of a metric whose hosts are here and pass all parts of a filter, in their order."""
        numbers = np.array(list(metric.series), np.int64)
        hosts, which = np.unique(self.catalogue.series.hosts_of(numbers), return_inverse=True)
        mine = [
            self._hosts.name(host) is not None
            and all(filters.matches(part, partial(self._hosts.attribute, host)) for part in parts)
            for host in hosts.tolist()
        ]
        chosen: I64 = numbers[np.array(mine, bool)[which]]
        return chosen


def _parted(node: Filter) -> tuple[list[Filter], list[Filter]]:
    """The parts of a filter that all have to be passed: those about nothing but hosts, and the others."""
    if isinstance(node, Both):
        parts = [_parted(side) for side in (node.left, node.right)]
        return [part for some, _ in parts for part in some], [part for _, some in parts for part in some]
    of_hosts = all(name == "host" or filters.is_of_host(name) for name in filters.attributes_of(node))
    return ([node], []) if of_hosts else ([], [node])


def _group_text(value: Any) -> str:
    if isinstance(value, list | tuple | set | frozenset):
        return ", ".join(sorted(str(v) for v in value))
    return "" if value is None else str(value)


@dataclass(frozen=True)
class Answer:
    """Values [groups, steps]; the groups' attributes in the same order. `note` says what could not be known."""

    steps: Steps
    named: list[dict[str, str]]
    values: F64
    tier: TierName
    note: str = ""


class TooLarge(ValueError):
    """The answer would be larger than one answer may be."""


class QueryEngine:
    """Metric queries over the series store. What a question costs is counted before it is worked on."""

    def __init__(
        self,
        catalogue: Catalogue,
        reader: Reader,
        selector: Selector,
        kept_since: KeptSince,
        *,
        cells: int = CELLS,
    ) -> None:
        """`cells` is how many values are held at once."""
        self.catalogue = catalogue
        self._reader = reader
        self._selector = selector
        self._kept_since = kept_since
        self._cells = cells
        self._blocks = Blocks(catalogue, reader, cells)

    def ask(
        self, metric: Metric, where: str | None, steps: Steps, take: Take, by: Sequence[str], *, apart: bool = False
    ) -> Answer:
        """The answer for every group, as `Selector.select` makes them. Its steps may be wider than those asked for,
        when no tier has such.

        Raises:
            FilterError: the filter cannot be read.
            TooLarge: it would have too many numbers, or look at too many values.
        """
        return self.answer(metric, self._selector.select(metric, where, by, apart=apart), steps, take)

    def first_step(self, metric: Metric, steps: Steps) -> int:
        """How many of these steps are before all that there is of a metric."""
        before = (self._reader.earliest(metric.id) - steps.start) // steps.width
        return min(max(0, before), steps.count)

    def answer(self, metric: Metric, selection: Selection, steps: Steps, take: Take) -> Answer:
        """What series that were chosen give. Raises TooLarge as `ask`."""
        if len(selection.named) * steps.count > NUMBERS_AT_MOST:
            raise TooLarge("the answer would have more than 4 million numbers: take a wider step or a narrower filter")
        if (count := len(selection.series)) > SERIES_AT_MOST:
            raise TooLarge(f"that is {count:,} series, of at most {SERIES_AT_MOST:,}: narrow the filter")
        parts = bool(selection.kinds.part.any())
        if take in QUANTILES and not parts:
            return self._percentiles(selection, steps, QUANTILES[take])
        tier = self.tier_for(steps, len(selection.series))
        if tier != "raw":
            steps = _fitted(steps, TIER_SECONDS[tier] * NS)
        growing = take in ("rate", "change") or parts
        costs = self._blocks.costs(metric.id, selection.series, steps, tier, growing=growing)
        self._afford(int(costs.sum()), tier)
        if parts:
            return Answer(steps, selection.named, self._ask_parts(metric, selection, steps, take, tier, costs), tier)
        every = np.arange(len(selection.series))
        return Answer(steps, selection.named, self._take(metric, selection, every, steps, take, tier, costs), tier)

    @staticmethod
    def _afford(cost: int, tier: TierName) -> None:
        most = POINTS_AT_MOST if tier == "raw" else VALUES_AT_MOST
        if cost > most:
            raise TooLarge(
                f"that would look at {cost / 1e6:,.0f} million values, of at most {most / 1e6:,.0f} million: "
                "take a shorter span, or a filter that leaves fewer series"
            )

    def tier_for(self, steps: Steps, series: int) -> TierName:
        """Raw for short spans that it still has and that are not too many points, else the coarsest that fits."""
        span = steps.width * steps.count
        few = series * (seconds_of(span) / 15) <= RAW_POINTS_AT_MOST
        fits = steps.width % (300 * NS) == 0 and steps.start % (300 * NS) == 0
        kept = steps.start >= self._kept_since("raw")
        if span <= RAW_AT_MOST and few and kept and (series <= 64 or not fits):
            return "raw"
        hours = steps.width % (3600 * NS) == 0 and steps.start % (3600 * NS) == 0
        return "1h" if hours or span > HOURS_FROM or steps.start < self._kept_since("5m") else "5m"

    def _take(
        self,
        metric: Metric,
        selection: Selection,
        places: I64,
        steps: Steps,
        take: Take,
        tier: TierName,
        costs: I64,
    ) -> F64:
        """What the series at some places of a selection give, [groups, steps]; `costs` are of all of it."""
        made = Combining(take, len(selection.named), steps.count)
        series, groups = selection.series[places], selection.groups[places]
        if take in ("rate", "change"):
            for rows, at, grown, seen in self._blocks.growths(metric.id, series, steps, tier, costs[places]):
                made.add_growth(grown, seen, groups[rows], at)
        else:
            delta = selection.kinds.delta[places]
            found = self._blocks.summaries(metric.id, series, steps, tier, _FIELDS[take], costs[places])
            for rows, at, summary in found:
                made.add(summary, delta[rows], groups[rows], at)
        return made.answer()

    def _percentiles(self, selection: Selection, steps: Steps, quantile: float) -> Answer:
        """Percentiles of points, stretch by stretch and group by group, as far back as raw points are kept."""
        kept = self._kept_since("raw")
        first = min(steps.count, max(0, -(-(kept - steps.start) // steps.width)))
        span = Steps(steps.start + first * steps.width, steps.width, steps.count - first)
        counts = self._reader.count(selection.series, span.start, span.end)
        self._afford(int(counts.sum()), "raw")
        values = np.full((len(selection.named), steps.count), np.nan)
        weights = np.bincount(selection.groups, counts, len(selection.named)).astype(np.int64)
        large = weights > self._cells
        for groups in in_weight(np.flatnonzero(~large), weights, self._cells):
            values[groups, first:] = self._points_of(selection, groups, span, quantile)
        for group in np.flatnonzero(large).tolist():
            at_once = max(1, int(span.count * self._cells // weights[group]))
            for at, part in parts_of(span, 0, at_once):
                values[group, first:][at] = self._points_of(selection, np.array([group]), part, quantile)[0]
        note = "" if not first else "Percentiles are worked out from single points, which are not kept as far back."
        return Answer(steps, selection.named, values, "raw", note)

    def _points_of(self, selection: Selection, groups: I64, steps: Steps, quantile: float) -> F64:
        """Percentiles of the points of some groups, [groups, steps]."""
        mine = np.flatnonzero(np.isin(selection.groups, groups))
        series = selection.series[mine]
        if len(groups) == 1 and (points := self._reader.count(series, steps.start, steps.end).sum()) > GROUP_POINTS:
            raise TooLarge(
                f"one percentile would be worked out of {points / 1e6:,.0f} million points, of at most "
                f"{GROUP_POINTS / 1e6:,.0f} million: take a shorter step, or a filter that leaves fewer series"
            )
        local = np.searchsorted(groups, selection.groups[mine])
        return point_percentiles(self._reader.raw(series, steps.start, steps.end), local, len(groups), steps, quantile)

    def _ask_parts(
        self, metric: Metric, selection: Selection, steps: Steps, take: Take, tier: TierName, costs: I64
    ) -> F64:
        """Histograms and summaries: their counts, sums, extremes and percentiles."""
        by_part: dict[str, list[int]] = {}
        for place, part_of in enumerate(self.catalogue.series.parts_of(selection.series)):
            by_part.setdefault(part_of, []).append(place)

        def part(name: str, how: Take) -> F64:
            places = np.array(by_part.get(name, []), np.int64)
            return self._take(metric, selection, places, steps, how, tier, costs)

        if take in ("rate", "change"):
            return part("count", take)
        if take in ("count", "sum"):
            return part(take, "change")
        if take in ("min", "max"):
            return part(take, take)
        if take in QUANTILES:
            buckets = [p for name, places in by_part.items() if bucket_of(name) for p in places]
            if buckets:
                return self._bucket_percentiles(
                    metric, selection, np.array(buckets), steps, QUANTILES[take], tier, costs
                )
            return part(f"q:{QUANTILES[take]!r}", "avg")
        with np.errstate(invalid="ignore", divide="ignore"):
            return part("sum", "change") / part("count", "change")

    def _bucket_percentiles(
        self,
        metric: Metric,
        selection: Selection,
        places: I64,
        steps: Steps,
        quantile: float,
        tier: TierName,
        costs: I64,
    ) -> F64:
        series, groups = selection.series[places], selection.groups[places]
        chosen = [self.catalogue.series[number] for number in series.tolist()]
        bounds = with_lower_bounds(
            [bucket_of(one.part) or (np.nan, np.nan) for one in chosen],
            [(one.host, one.attributes, one.kind) for one in chosen],
        )
        out = np.full((len(selection.named), steps.count), np.nan)
        at_once = max(1, self._cells // len(series))
        for low in range(0, steps.count, at_once):
            part = Steps(steps.start + low * steps.width, steps.width, min(at_once, steps.count - low))
            held = np.zeros((len(series), part.count))
            for rows, at, grown, _ in self._blocks.growths(metric.id, series, part, tier, costs[places]):
                held[rows, at] = grown
            for group in np.unique(groups).tolist():
                mine = groups == group
                out[group, low : low + part.count] = bucket_percentiles(bounds[mine], held[mine], quantile)
        return out


def _fitted(steps: Steps, width: int) -> Steps:
    """The same span in steps that are a multiple of `width`, and begin at one; those that do stay as they are."""
    if steps.width % width == 0 and steps.start % width == 0:
        return steps
    wide = -(-steps.width // width) * width
    start = steps.start // wide * wide
    return Steps(start, wide, -(-(steps.end - start) // wide))
