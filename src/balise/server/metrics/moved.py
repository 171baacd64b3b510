"""What moved most in a stretch, over all series there are."""

from __future__ import annotations

import math
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from balise.api.moved import MovedAnswer, MovedQuery, MovedSeries
from balise.core import filters
from balise.core.moments import NS, seconds_of
from balise.core.moved import Moved, Stretch, against_usual, moved, stretch_of
from balise.core.series.steps import Steps
from balise.server.asking import read_filter, span_of
from balise.server.errors import bad_field
from balise.server.hosts.directory import Directory
from balise.server.metrics.questions import unit_of
from balise.store.series.catalogue import Metric
from balise.store.series.query import lookup_of
from balise.store.series.roster import Series
from balise.store.series.scan import CELLS_AT_MOST, TooMuch
from balise.store.series.store import SeriesStore

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
HOUR, DAY = 3600, 86_400
DAYS = 7
"""Of how many days before the same hours are looked at."""
FINE, WIDE = 60, 300
SHORT = 20 * 60.0
"""Seconds below which a stretch is looked at minute by minute, if it is not put away yet."""
MOST_STEPS = 48
"""Of the stretch, and of what was before it."""
CANDIDATES = 3
"""How many times as many as are asked for are compared with what is usual."""
LEAST = 3.0
"""Deviations from which something has moved."""
OWN = ("balise.collector.duration", "balise.agent.")
"""What agents tell of their own work, which follows whatever else happens."""


@dataclass(frozen=True)
class _Lines:
    """What is compared of one metric: the series that stand for the lines, and the values of both [lines, steps]."""

    metric: Metric
    take: str
    series: list[Series]
    levels: F64


class MostMoved:
    """Answers what moved."""

    def __init__(self, *, store: SeriesStore, directory: Directory) -> None:
        self._store = store
        self._directory = directory

    def find(self, query: MovedQuery) -> MovedAnswer:
        """Raises Refused 422 naming the field."""
        start, end = span_of(query.from_, query.to, time.time())
        if end - start > 31 * DAY:
            raise bad_field("from", "the stretch is longer than 31 days: choose a shorter one")
        chosen = self._chosen(query.where)
        stretch = self._stretch(start, end)
        ids = sorted(chosen)
        try:
            levels = self._store.scan.levels(ids, stretch.steps, "1h" if stretch.steps.width == HOUR * NS else "5m")
        except TooMuch:
            most = CELLS_AT_MOST // stretch.steps.count
            raise bad_field("where", f"that is {len(ids):,} series, of at most {most:,}: narrow the filter") from None
        found = [one for lines in self._lines(ids, levels) for one in self._of_lines(lines, stretch)]
        found.sort(key=lambda one: -abs(one.deviation))
        usual, days = self._against_usual(found[: query.limit * CANDIDATES], start, end)
        usual = sorted((one for one in usual if abs(one.deviation) >= LEAST), key=lambda one: -abs(one.deviation))
        return MovedAnswer(
            items=[self._answer(one) for one in usual[: query.limit]],
            looked=len(ids),
            compared_from=seconds_of(stretch.steps.start),
            days=days,
        )

    # --- which series, and which steps

    def _chosen(self, where: str | None) -> dict[int, Series]:
        node = read_filter(where, "where")
        catalogue, directory = self._store.catalogue, self._directory
        here = {known.id for known in directory.all()}
        own = [m.id for m in catalogue.metric_by_id.values() if m.name.startswith(OWN)]
        of_hosts = node is not None and all(
            name == "host" or filters.is_of_host(name) for name in map(filters.fold_name, filters.attributes_of(node))
        )
        if of_hosts:
            here &= {known.id for known in directory.matching(node)}
        roster = catalogue.series
        numbers = roster.numbers()
        numbers = numbers[np.isin(roster.hosts_of(numbers), list(here))]
        numbers = numbers[~np.isin(roster.metrics_of(numbers), own)]
        found = [one for one in map(roster.get, numbers.tolist()) if one and one.part in ("", "sum", "count")]
        if node is not None and not of_hosts:
            found = [one for one in found if filters.matches(node, lookup_of(directory, one))]
        return {one.id: one for one in found}

    def _stretch(self, start: float, end: float) -> Stretch:
        before = min(max(end - start, float(HOUR)), float(DAY))
        return stretch_of(start, end, before=before, width=self._width(start - before, end - start))

    def _width(self, first: float, length: float) -> int:
        if length < SHORT and not self._store.scan.sealed_since(int(first * NS)):
            return FINE
        # Hours are kept of what is long ago, and are enough for what lasts long.
        gone = first * NS < self._store.kept_since("5m")
        return HOUR if gone or length > MOST_STEPS * WIDE else WIDE

    # --- lines

    def _lines(self, ids: Sequence[int], levels: F64) -> list[_Lines]:
        """Metric by metric; of histograms how often they were added to, and the mean of what was added."""
        catalogue = self._store.catalogue
        rows: dict[tuple[int, str], list[int]] = {}
        for row, number in enumerate(ids):
            one = catalogue.series[number]
            rows.setdefault((one.metric, one.part), []).append(row)
        found = []
        for (metric, part), mine in rows.items():
            series = [catalogue.series[ids[row]] for row in mine]
            take = "avg" if all(one.kind == "gauge" for one in series) else "rate"
            held = catalogue.metric_by_id[metric]
            if part != "sum":
                found.append(_Lines(held, take, series, levels[mine]))
            elif (metric, "count") in rows:
                counts = {(s.host, s.attributes): r for r in rows[metric, "count"] for s in [catalogue.series[ids[r]]]}
                pairs = [(s, r, counts[s.host, s.attributes]) for s, r in zip(series, mine, strict=True)
                         if (s.host, s.attributes) in counts]  # fmt: skip
                if pairs:
                    with np.errstate(invalid="ignore", divide="ignore"):
                        means = levels[[r for _, r, _ in pairs]] / levels[[c for *_, c in pairs]]
                    found.append(_Lines(held, "avg", [s for s, *_ in pairs], means))
        return found

    def _of_lines(self, lines: _Lines, stretch: Stretch) -> list[_One]:
        unit, events = _unit(lines.metric, lines.take, lines.series)
        found = moved(
            lines.levels[:, stretch.before], lines.levels[:, stretch.during], unit, events=events,
            seconds=stretch.seconds,
        )  # fmt: skip
        size = np.nan_to_num(np.abs(found.deviation))
        best: dict[int, int] = {}
        alike: dict[int, int] = {}
        for row in np.flatnonzero(size >= LEAST).tolist():
            host = lines.series[row].host
            alike[host] = alike.get(host, -1) + 1
            if host not in best or size[row] > size[best[host]]:
                best[host] = row
        return [
            _One(lines, row, unit, events, stretch.seconds, float(found.before[row]), float(found.during[row]),
                 float(found.deviation[row]), alike[host])
            for host, row in best.items()
        ]  # fmt: skip

    # --- what is usual

    def _against_usual(self, found: Sequence[_One], start: float, end: float) -> tuple[list[_One], int]:
        """The same with what was at these hours of the last days taken into account, and of how many that is known."""
        first, last = math.floor(start / HOUR) * HOUR, math.ceil(end / HOUR) * HOUR
        if last - first > DAY or not found:
            return list(found), 0
        steps = Steps((first - DAYS * DAY) * NS, HOUR * NS, DAYS * DAY // HOUR)
        wanted = {number for one in found for number in self._needed(one)}
        ids = sorted(wanted)
        place = {number: row for row, number in enumerate(ids)}
        levels = self._store.scan.levels(ids, steps, "1h")
        hours, per_day = (last - first) // HOUR, DAY // HOUR
        inside = np.arange(DAYS)[:, None] * per_day + np.arange(hours)
        judged, days = [], 0
        for one in found:
            numbers = self._needed(one)
            line = levels[place[numbers[0]]]
            if len(numbers) == 2:
                with np.errstate(invalid="ignore", divide="ignore"):
                    line = line / levels[place[numbers[1]]]
            known = ~np.isnan(line[inside])
            with np.errstate(invalid="ignore", divide="ignore"):
                means = np.where(known, line[inside], 0.0).sum(axis=1) / known.sum(axis=1)
            days = max(days, int(known.any(axis=1).sum()))
            held = Moved(np.array([one.before]), np.array([one.during]), np.array([one.deviation]))
            deviation = against_usual(held, means[None], one.unit, events=one.events, seconds=one.seconds)
            judged.append(one.with_deviation(float(deviation[0])))
        return judged, days

    def _needed(self, one: _One) -> list[int]:
        """The series of a line: of a mean of a histogram the sum and the count."""
        series = one.series
        if series.part != "sum":
            return [series.id]
        metric = one.lines.metric
        count = self._store.catalogue.find(series.host, metric, series.attributes, "count", series.kind)
        return [series.id, count] if count is not None else [series.id]

    def _answer(self, one: _One) -> MovedSeries:
        return MovedSeries(
            metric=one.lines.metric.name,
            attributes=dict(one.series.attributes),
            host=self._directory.name(one.series.host) or "",
            take=one.lines.take,  # type: ignore[arg-type]
            unit=one.unit,
            before=one.before,
            during=one.during,
            deviation=round(one.deviation, 2),
            direction="up" if one.deviation > 0 else "down",
            alike=one.alike,
        )


@dataclass(frozen=True)
class _One:
    """The line of a metric that moved most on a host."""

    lines: _Lines
    row: int
    unit: str
    events: bool
    seconds: float
    before: float
    during: float
    deviation: float
    alike: int

    @property
    def series(self) -> Series:
        return self.lines.series[self.row]

    def with_deviation(self, deviation: float) -> _One:
        return replace(self, deviation=deviation)


def _unit(metric: Metric, take: str, series: Sequence[Series]) -> tuple[str, bool]:
    """The unit of what is compared, and whether it is events a second."""
    if take == "avg":
        return metric.unit, False
    counted = series[0].part == "count" or metric.unit in ("", "1") or metric.unit.startswith("{")
    return unit_of("1" if series[0].part == "count" else metric.unit, "rate"), counted
