"""Answering a metric query: which series, which tier, summed up and put into groups."""

from __future__ import annotations

import json
from collections import OrderedDict
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from balise.api.metrics import Take
from balise.core import filters
from balise.core.series.combine import combine, combine_growth, combine_rates
from balise.core.series.growth import MAX_GAP, increases, told_growth
from balise.core.series.percentiles import (
    QUANTILES,
    bucket_of,
    bucket_percentiles,
    point_percentiles,
    with_lower_bounds,
)
from balise.core.series.steps import NS, TIER_SECONDS, Steps, TierName
from balise.core.series.summary import Flat, Summary, coarser, summarise_flat
from balise.store.series.catalogue import Catalogue, Metric, Series
from balise.store.series.reader import Reader

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]

RAW_AT_MOST = 2 * 86_400 * NS
"""Raw points are read for spans up to this long."""
RAW_POINTS_AT_MOST = 6_000_000
PERCENTILE_POINTS_AT_MOST = 60_000_000
HOURS_FROM = 60 * 86_400 * NS
"""Spans longer than this are answered from hours."""
_FIELDS: dict[str, set[str]] = {
    "avg": {"total"},
    "sum": {"total"},
    "min": {"low"},
    "max": {"high"},
    "last": {"last"},
    "rate": {"grown", "seen", "total"},
    "count": set(),
}
KeptSince = Callable[[TierName], int]
"""From when on a tier has everything that was sent, unix nanoseconds."""


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
    """A function from attribute names, as filters fold them, to what a series has of them."""
    own = filters.by_name((name, _members(value)) for name, value in one.attributes)

    def lookup(name: str) -> Any:
        if name == "host" or name.startswith("label.") or name == "group":
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
    own = dict(one.attributes)
    own_host = ("host", "group")
    return {
        name: _group_text(
            hosts.attribute(one.host, name) if name in own_host or name.startswith("label.") else own.get(name)
        )
        for name in by
    }


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
        key = (metric.id, where, tuple(by), metric.version, self._hosts.version)
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
            if node is None or filters.matches(node, lookup_of(self._hosts, one)):
                values = tuple(group_values(self._hosts, one, by).values())
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
    """Values [groups, steps]; the groups' attributes in the same order. `note` says what could not be known."""

    steps: Steps
    named: list[dict[str, str]]
    values: F64
    tier: TierName
    note: str = ""


class TooLarge(ValueError):
    """The answer would be larger than one answer may be."""


class QueryEngine:
    """Metric queries over the series store."""

    def __init__(self, catalogue: Catalogue, reader: Reader, selector: Selector, kept_since: KeptSince) -> None:
        self.catalogue = catalogue
        self._reader = reader
        self._selector = selector
        self._kept_since = kept_since

    def ask(self, metric: Metric, where: str | None, steps: Steps, take: Take, by: Sequence[str]) -> Answer:
        """The answer for every group. Its steps may be wider than those asked for, when no tier has such.

        Raises:
            FilterError: the filter cannot be read.
            TooLarge: more than 4 million numbers, or percentiles of too many points.
        """
        selection = self._selector.select(metric, where, by)
        if len(selection.named) * steps.count > 4_000_000:
            raise TooLarge("the answer would have more than 4 million numbers: take a wider step or a narrower filter")
        parts = {self.catalogue.series[s].part for s in selection.series}
        of_points = take in QUANTILES and not parts - {""}
        tier: TierName = "raw" if of_points else self.tier_for(steps, len(selection.series))
        if tier != "raw":
            steps = _fitted(steps, TIER_SECONDS[tier] * NS)
        if parts - {""}:
            return Answer(steps, selection.named, self._ask_parts(metric, selection, steps, take, tier), tier)
        if of_points:
            return self._percentiles(selection, steps, QUANTILES[take])
        values = self._take(metric, selection.series, selection.groups, steps, take, tier)
        return Answer(steps, selection.named, values, tier)

    def tier_for(self, steps: Steps, series: int) -> TierName:
        """Raw for short spans that it still has and that are not too many points, else the coarsest that fits."""
        span = steps.width * steps.count
        few = series * (span / NS / 15) <= RAW_POINTS_AT_MOST
        fits = steps.width % (300 * NS) == 0 and steps.start % (300 * NS) == 0
        kept = steps.start >= self._kept_since("raw")
        if span <= RAW_AT_MOST and few and kept and (series <= 64 or not fits):
            return "raw"
        hours = steps.width % (3600 * NS) == 0 and steps.start % (3600 * NS) == 0
        return "1h" if hours or span > HOURS_FROM or steps.start < self._kept_since("5m") else "5m"

    def _take(self, metric: Metric, series: list[int], groups: I64, steps: Steps, take: Take, tier: TierName) -> F64:
        if not series:
            return np.empty((0, steps.count))
        if take == "rate":
            return combine_rates(*self._growth(metric, series, steps, tier), groups)
        delta = self._deltas(series)
        if tier == "raw":
            flat = Flat.of(self._reader.raw(series, steps.start, steps.end))
            return combine(summarise_flat(flat, len(series), steps), delta, groups, take)
        return combine(self._rolled(metric, series, steps, _FIELDS[take], tier), delta, groups, take)

    def _deltas(self, series: list[int]) -> NDArray[np.bool_]:
        return np.array([self.catalogue.series[s].kind == "delta" for s in series], bool)

    def _growth(self, metric: Metric, series: list[int], steps: Steps, tier: TierName) -> tuple[F64, F64]:
        """What each series grew by and the seconds over which that was seen, [series, steps]."""
        if tier == "raw":
            kinds = [self.catalogue.series[s].kind for s in series]
            return increases(Flat.of(self._reader.raw(series, steps.start - MAX_GAP, steps.end)), kinds, steps)
        rolled = self._rolled(metric, series, steps, _FIELDS["rate"], tier)
        return told_growth(rolled, self._deltas(series), steps.width / NS)

    def _rolled(self, metric: Metric, series: list[int], steps: Steps, fields: set[str], tier: TierName) -> Summary:
        factor = steps.width // (TIER_SECONDS[tier] * NS)
        fine = Steps(steps.start, TIER_SECONDS[tier] * NS, steps.count * factor)
        return coarser(self._reader.rolled(tier, metric.id, series, fine, fields), factor)

    def _percentiles(self, selection: Selection, steps: Steps, quantile: float) -> Answer:
        """Percentiles of points, stretch by stretch, as far back as raw points are kept."""
        kept = self._kept_since("raw")
        first = max(0, -(-(kept - steps.start) // steps.width))
        per_step = max(1.0, len(selection.series) * (steps.width / NS / 15))
        if per_step * max(0, steps.count - first) > PERCENTILE_POINTS_AT_MOST:
            raise TooLarge(
                f"percentiles are worked out from single points, and some {per_step * steps.count / 1e6:,.0f} million "
                "are too many: take a shorter span or a narrower filter"
            )
        values = np.full((len(selection.named), steps.count), np.nan)
        at_once = max(1, int(RAW_POINTS_AT_MOST // per_step))
        for at in range(first, steps.count, at_once):
            part = Steps(steps.start + at * steps.width, steps.width, min(at_once, steps.count - at))
            pieces = self._reader.raw(selection.series, part.start, part.end)
            found = point_percentiles(pieces, selection.groups, len(selection.named), part, quantile)
            values[:, at : at + part.count] = found
        note = "" if not first else "Percentiles are worked out from single points, which are not kept as far back."
        return Answer(steps, selection.named, values, "raw", note)

    def _ask_parts(self, metric: Metric, selection: Selection, steps: Steps, take: Take, tier: TierName) -> F64:
        """Histograms and summaries: their counts, sums, extremes and percentiles."""
        by_part: dict[str, list[int]] = {}
        for place, one in enumerate(selection.series):
            by_part.setdefault(self.catalogue.series[one].part, []).append(place)
        size = len(selection.named)

        def part(name: str, answer: Callable[[list[int], I64], F64]) -> F64:
            places = by_part.get(name, [])
            out = np.full((size, steps.count), np.nan)
            if places:
                present, local = np.unique(selection.groups[places], return_inverse=True)
                out[present] = answer([selection.series[p] for p in places], local.astype(np.int64))
            return out

        def taken(how: Take) -> Callable[[list[int], I64], F64]:
            return lambda series, groups: self._take(metric, series, groups, steps, how, tier)

        def grown(series: list[int], groups: I64) -> F64:
            return combine_growth(*self._growth(metric, series, steps, tier), groups)

        if take == "rate":
            return part("count", taken("rate"))
        if take in ("count", "sum"):
            return part(take, grown)
        if take in ("min", "max"):
            return part(take, taken(take))
        if take in QUANTILES:
            buckets = [p for name, places in by_part.items() if bucket_of(name) for p in places]
            if buckets:
                return self._bucket_percentiles(metric, selection, buckets, steps, QUANTILES[take], tier)
            return part(f"q:{QUANTILES[take]!r}", taken("avg"))
        with np.errstate(invalid="ignore", divide="ignore"):
            return part("sum", grown) / part("count", grown)

    def _bucket_percentiles(
        self, metric: Metric, selection: Selection, places: list[int], steps: Steps, quantile: float, tier: TierName
    ) -> F64:
        chosen = [self.catalogue.series[selection.series[p]] for p in places]
        groups = selection.groups[places]
        bounds = with_lower_bounds(
            [bucket_of(one.part) or (np.nan, np.nan) for one in chosen],
            [(one.host, one.attributes, one.kind) for one in chosen],
        )
        grown, _ = self._growth(metric, [one.id for one in chosen], steps, tier)
        out = np.full((len(selection.named), steps.count), np.nan)
        for group in np.unique(groups).tolist():
            mine = groups == group
            out[group] = bucket_percentiles(bounds[mine], grown[mine], quantile)
        return out


def _fitted(steps: Steps, width: int) -> Steps:
    """The same span in steps that are a multiple of `width`, and begin at one."""
    wide = -(-steps.width // width) * width
    start = steps.start // wide * wide
    return Steps(start, wide, -(-(steps.end - start) // wide))
