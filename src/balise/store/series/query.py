"""Answering a metric query: which series, which tier, summed up and put into groups."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from balise.api.metrics import Take
from balise.core import filters
from balise.core.series.steps import (
    NS,
    TIER_SECONDS,
    Flat,
    Steps,
    Summary,
    TierName,
    bucket_percentiles,
    coarser,
    combine,
    combine_rates,
    increases_flat,
    increases_of_summary,
    point_percentiles,
    summarise_flat,
)
from balise.store.series.catalogue import Catalogue, Metric, Series
from balise.store.series.reader import Reader

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]

RAW_AT_MOST = 2 * 86_400 * NS
"""Raw points are read for spans up to this long."""
RAW_POINTS_AT_MOST = 6_000_000
LOOK_BACK = 300 * NS
"""How long before the span a rate looks for the point it grows from."""
QUANTILES: dict[str, float] = {"p50": 0.5, "p95": 0.95, "p99": 0.99}
_FIELDS: dict[str, set[str]] = {
    "avg": {"total"},
    "sum": {"total"},
    "min": {"low"},
    "max": {"high"},
    "last": {"last"},
    "rate": {"last", "total"},
    "count": set(),
}


class Hosts(Protocol):
    """What a query has to know of hosts."""

    version: int

    def attribute(self, host: int, name: str) -> Any:
        """A host's `host`, `group` or `label.…`; None for what it does not have."""

    def name(self, host: int) -> str | None: ...


@dataclass(frozen=True)
class Selection:
    """Series chosen for an answer, each with the number of its group."""

    series: list[int]
    groups: I64
    named: list[dict[str, str]]
    hosts: list[int]
    """Of each group, the host of its first series."""


def lookup_of(hosts: Hosts, one: Series) -> Any:
    """A function from attribute names to what a series has of them."""
    own = dict(one.attributes)

    def lookup(name: str) -> Any:
        if name == "host" or name.startswith("label.") or name == "group":
            return hosts.attribute(one.host, name)
        return own.get(name)

    return lookup


class Selector:
    """Finds series by metric and filter, and remembers what it found until something new appears."""

    def __init__(self, catalogue: Catalogue, hosts: Hosts, *, capacity: int = 256) -> None:
        self.catalogue = catalogue
        self._hosts = hosts
        self._held: OrderedDict[tuple[object, ...], Selection] = OrderedDict()
        self._capacity = capacity

    def select(self, metric: Metric, where: str | None, by: Sequence[str]) -> Selection:
        """The series of a metric that pass the filter, in groups by the values of `by`.

        Raises:
            FilterError: the filter cannot be read.
        """
        key = (metric.id, where, tuple(by), len(metric.series), self._hosts.version)
        found = self._held.get(key)
        if found is None:
            found = self._held[key] = self._search(metric, where, by)
            while len(self._held) > self._capacity:
                self._held.popitem(last=False)
        return found

    def _search(self, metric: Metric, where: str | None, by: Sequence[str]) -> Selection:
        node = filters.parse(where) if where and where.strip() else None
        numbers: dict[tuple[str, ...], int] = {}
        chosen: list[int] = []
        groups: list[int] = []
        hosts: list[int] = []
        for number in list(metric.series):
            one = self.catalogue.series[number]
            if self._hosts.name(one.host) is None:
                continue
            lookup = lookup_of(self._hosts, one)
            if node is None or filters.matches(node, lookup):
                values = tuple(_group_text(lookup(name)) for name in by)
                group = numbers.setdefault(values, len(numbers))
                if group == len(hosts):
                    hosts.append(one.host)
                chosen.append(number)
                groups.append(group)
        named = [dict(zip(by, values, strict=True)) for values in numbers]
        return Selection(chosen, np.array(groups, np.int64), named, hosts)


def _group_text(value: Any) -> str:
    if isinstance(value, list | tuple | set | frozenset):
        return ", ".join(sorted(str(v) for v in value))
    return "" if value is None else str(value)


@dataclass(frozen=True)
class Answer:
    """Values [groups, steps]; the groups' attributes in the same order."""

    steps: Steps
    named: list[dict[str, str]]
    values: F64
    tier: TierName


class TooLarge(ValueError):
    """The answer would be larger than one answer may be."""


class QueryEngine:
    """Metric queries over the series store."""

    def __init__(self, catalogue: Catalogue, reader: Reader, selector: Selector) -> None:
        self.catalogue = catalogue
        self._reader = reader
        self._selector = selector

    def ask(self, metric: Metric, where: str | None, steps: Steps, take: Take, by: Sequence[str]) -> Answer:
        """The answer for every group.

        Raises:
            FilterError: the filter cannot be read.
            TooLarge: more than 4 million numbers.
        """
        selection = self._selector.select(metric, where, by)
        if len(selection.named) * steps.count > 4_000_000:
            raise TooLarge("the answer would have more than 4 million numbers: take a wider step or a narrower filter")
        parts = {self.catalogue.series[s].part for s in selection.series}
        if parts - {""}:
            return self._ask_parts(metric, selection, steps, take)
        tier = self._tier(steps, len(selection.series), take)
        values = self._take(metric, selection.series, selection.groups, len(selection.named), steps, take, tier)
        return Answer(steps, selection.named, values, tier)

    def _tier(self, steps: Steps, series: int, take: Take) -> TierName:
        """The coarsest tier whose steps fit; raw for short spans that are not too many points."""
        span = steps.width * steps.count
        few = series * (span / NS / 15) <= RAW_POINTS_AT_MOST
        fits_5m = steps.width % (300 * NS) == 0
        fits_1h = steps.width % (3600 * NS) == 0
        if span <= RAW_AT_MOST and few and (take in QUANTILES or series <= 64 or not fits_5m):
            return "raw"
        return "1h" if fits_1h or (span > 60 * 86_400 * NS) else "5m"

    def _take(
        self,
        metric: Metric,
        series: list[int],
        groups: I64,
        group_count: int,
        steps: Steps,
        take: Take,
        tier: TierName,
    ) -> F64:
        kinds = [self.catalogue.series[s].kind for s in series]
        if not series:
            return np.empty((0, steps.count))
        if tier == "raw":
            back = LOOK_BACK + steps.width if take == "rate" else 0
            pieces = self._reader.raw(series, steps.start - back, steps.end)
            if take in QUANTILES:
                return point_percentiles(pieces, groups, group_count, steps, QUANTILES[take])
            flat = Flat.of(pieces)
            if take == "rate":
                return combine_rates(*increases_flat(flat, kinds, steps), groups)
            return combine(summarise_flat(flat, len(series), steps), kinds, groups, take)
        summary = self._rolled(metric, series, steps, take, tier)
        if take in QUANTILES:
            return _percentiles_of_means(summary, groups, group_count, QUANTILES[take])
        if take == "rate":
            grown = [
                increases_of_summary(summary.rows(np.array([i])), k, steps.width / NS) for i, k in enumerate(kinds)
            ]
            return combine_rates(np.vstack([g for g, _ in grown]), np.vstack([s for _, s in grown]), groups)
        return combine(summary, kinds, groups, take)

    def _rolled(self, metric: Metric, series: list[int], steps: Steps, take: Take, tier: TierName) -> Summary:
        width = TIER_SECONDS[tier] * NS
        fields = _FIELDS.get(take, {"total"})
        if steps.width % width == 0:
            factor = steps.width // width
            fine = Steps(steps.start, width, steps.count * factor)
            return coarser(self._reader.rolled(tier, metric.id, series, fine, fields), factor)
        # A step that is no multiple of the tier's: each fine step counts where it begins.
        start = steps.start // width * width
        fine = Steps(start, width, -(-(steps.end - start) // width))
        return _spread(self._reader.rolled(tier, metric.id, series, fine, fields), fine, steps)

    def _ask_parts(self, metric: Metric, selection: Selection, steps: Steps, take: Take) -> Answer:
        """Histograms and summaries: their counts, sums, extremes and percentiles."""
        by_part: dict[str, list[int]] = {}
        for place, one in enumerate(selection.series):
            by_part.setdefault(self.catalogue.series[one].part, []).append(place)
        tier = self._tier(steps, len(selection.series), take)
        size = len(selection.named)

        def part(name: str, how: Take) -> F64:
            places = by_part.get(name, [])
            out = np.full((size, steps.count), np.nan)
            if places:
                groups = selection.groups[places]
                present, local = np.unique(groups, return_inverse=True)
                chosen = [selection.series[p] for p in places]
                out[present] = self._take(metric, chosen, local.astype(np.int64), len(present), steps, how, tier)
            return out

        seconds = steps.width / NS
        if take == "rate":
            values = part("count", "rate")
        elif take == "count":
            values = part("count", "rate") * seconds
        elif take == "sum":
            values = part("sum", "rate") * seconds
        elif take in ("min", "max") and take in by_part:
            values = part(take, take)
        elif take in QUANTILES and any(p.startswith("le:") for p in by_part):
            values = self._bucket_percentiles(part, by_part, size, steps, QUANTILES[take])
        elif take in QUANTILES:
            values = part(f"q:{QUANTILES[take]!r}", "avg")
        else:
            with np.errstate(invalid="ignore", divide="ignore"):
                values = part("sum", "rate") / part("count", "rate")
        return Answer(steps, selection.named, values, tier)

    @staticmethod
    def _bucket_percentiles(part: Any, by_part: dict[str, list[int]], size: int, steps: Steps, quantile: float) -> F64:
        bounds = sorted((float(p[3:]), p) for p in by_part if p.startswith("le:"))
        counts = np.nan_to_num(np.array([part(name, "rate") for _, name in bounds]))
        upper = np.array([bound for bound, _ in bounds])
        out = np.full((size, steps.count), np.nan)
        for group in range(size):
            out[group] = bucket_percentiles(upper, counts[:, group, :], quantile)
        return out


def _spread(fine: Summary, at: Steps, steps: Steps) -> Summary:
    out = Summary.empty(len(fine.count), steps.count)
    rows = np.arange(len(fine.count))
    for i in range(at.count):
        place = (at.start + i * at.width - steps.start) // steps.width
        if 0 <= place < steps.count:
            one = Summary(
                fine.low[:, i : i + 1],
                fine.high[:, i : i + 1],
                fine.total[:, i : i + 1],
                fine.count[:, i : i + 1],
                fine.last[:, i : i + 1],
            )
            out.merge(rows, np.array([place]), one, later=True)
    return out


def _percentiles_of_means(summary: Summary, groups: I64, group_count: int, quantile: float) -> F64:
    """Beyond the raw tier: percentiles over the series' means in each step."""
    out = np.full((group_count, summary.count.shape[1]), np.nan)
    with np.errstate(invalid="ignore", divide="ignore"):
        means = summary.total / summary.count
    for group in range(group_count):
        mine = means[groups == group]
        some = ~np.isnan(mine).all(axis=0)
        if some.any():
            out[group, some] = np.nanquantile(mine[:, some], quantile, axis=0)
    return out
