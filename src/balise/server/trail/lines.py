"""The series of some hosts around a stretch, on one grid, with what is usual for those that left it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from balise.core.moments import NS
from balise.core.moved import SHARE, stretch_of
from balise.core.quantiles import median
from balise.core.rules.baseline import HOUR, TO_SIGMA, usual_of
from balise.core.series.steps import Steps
from balise.core.series.summary import Flat
from balise.core.trail.departing import may_depart
from balise.core.trail.grid import on_grid, spacing_of, times_of, width_of
from balise.core.trail.sorts import sort_of
from balise.core.trail.things import Line, thing_of
from balise.server.hosts.clocks import Clocks
from balise.server.hosts.directory import Known
from balise.server.metrics.questions import unit_of
from balise.server.rules.units import Units
from balise.store.series.roster import Series
from balise.store.series.scan import TooMuch
from balise.store.series.store import SeriesStore

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
MOST_SERIES = 50_000
"""Series that are looked at in steps of five minutes."""
MOST_FINE = 4000
"""Series that are looked at point by point: those that moved most."""
SCREENED = 2.5
"""Deviations in five-minute steps from which a series is looked at point by point."""
MOST_TO_READ, COARSE = 30e6, 300.0
"""Seconds of all series together that are read point by point; of more it is what is kept of so many seconds."""
LEAST_BEFORE, MOST_BEFORE = 3600.0, 4 * 3600.0
MARGIN = 3600 * NS
"""How far before the first step a counter's point is looked for."""
DAYS, AROUND = 14, 1
WHOLE = ("", "count", "sum")
"""What of a series is looked at: itself, and of histograms how many and how much."""
OWN = ("balise.agent.", "balise.collector.")
"""What agents tell of their own work, which follows whatever else happens."""


@dataclass(frozen=True)
class Laid:
    """What was read: see `Case`. `looked` is how many series there were, `left_out` how many were not looked at."""

    steps: Steps
    times: F64
    lines: Sequence[Line]
    values: F64
    usual: F64
    spread: F64
    looked: int
    left_out: int


class LineReader:
    """Reads what hosts measured."""

    def __init__(self, *, store: SeriesStore, clocks: Clocks, units: Units) -> None:
        self._store = store
        self._clocks = clocks
        self._units = units

    def read(self, hosts: Sequence[Known], machines: Mapping[str, int], start: float, end: float) -> Laid:
        """All series of some hosts from before `start` until `end`, unix seconds; on `machines` others run."""
        numbers = self._of(hosts)
        looked, left_out = len(numbers), max(0, len(numbers) - MOST_SERIES)
        numbers = numbers[:MOST_SERIES]
        before = float(np.clip(end - start, LEAST_BEFORE, MOST_BEFORE))
        chosen = self._screened(numbers, start, end, before) if len(numbers) > MOST_FINE else numbers
        found = (self._store.catalogue.series.get(number) for number in chosen.tolist())
        # One may be forgotten meanwhile.
        fine = [one for one in found if one is not None]
        if len(fine) * (end - start + before) > MOST_TO_READ:
            steps = self._steps(start, end, before, COARSE)
            values = self._coarse(fine, steps)
        else:
            points = self._points(fine, start - before, end)
            kinds = [one.kind for one in fine]
            width = width_of(spacing_of(points, len(fine)), end - start + before)
            steps = self._steps(start, end, before, width)
            values = on_grid(points, kinds, steps)
        values = _with_means(fine, values)
        names = {known.id: known.name for known in hosts}
        lines = [self._line(one, names[one.host], machines) for one in fine]
        times = times_of(steps)
        away = may_depart(times, values, int(np.searchsorted(times, start)), units=[line.unit for line in lines])
        usual, spread = self._usual(fine, steps, values, np.flatnonzero(away).tolist())
        return Laid(steps, times, lines, values, usual, spread, looked, left_out)

    def _of(self, hosts: Sequence[Known]) -> I64:
        """The numbers of the series of some hosts that are looked at, those of the first host first."""
        catalogue = self._store.catalogue
        numbers = np.array([number for known in hosts for number in catalogue.of_host(known.id)], np.int64)
        numbers = numbers[catalogue.series.has(numbers)]
        metrics, which = np.unique(catalogue.series.metrics_of(numbers), return_inverse=True)
        own = np.array([catalogue.metric_by_id[one].name.startswith(OWN) for one in metrics.tolist()], bool)
        whole = [part in WHOLE for part in catalogue.series.parts_of(numbers)]
        found: I64 = numbers[np.array(whole, bool) & ~own[which]]
        return found

    def _screened(self, numbers: I64, start: float, end: float, before: float) -> I64:
        """Those that moved most in five-minute steps, so many as are looked at point by point."""
        stretch = stretch_of(start, end, before=before, width=300)
        order = np.argsort(numbers)
        try:
            levels = self._store.scan.levels(numbers[order].tolist(), stretch.steps)
        except TooMuch:
            return numbers[:MOST_FINE]
        peaks = np.empty(len(numbers))
        peaks[order] = _peak(levels, stretch.before, stretch.during)
        farthest = np.argsort(-peaks, kind="stable")
        chosen: I64 = numbers[farthest[peaks[farthest] >= SCREENED][:MOST_FINE]]
        return chosen

    def _coarse(self, series: Sequence[Series], steps: Steps) -> F64:
        """What is kept of each five minutes, in the order of the series; nothing where that would be too much."""
        order = np.argsort([one.id for one in series])
        try:
            found = self._store.scan.levels([series[i].id for i in order.tolist()], steps)
        except TooMuch:
            return np.full((len(series), steps.count), np.nan)
        values: F64 = found[np.argsort(order)]
        return values

    def _points(self, series: Sequence[Series], start: float, end: float) -> Flat:
        lo, hi = int(start * NS) - MARGIN, int(end * NS)
        return self._store.reader.flat([one.id for one in series], lo, hi)

    @staticmethod
    def _steps(start: float, end: float, before: float, width: float) -> Steps:
        first = int((start - before) // width)
        return Steps(int(first * width * NS), int(width * NS), max(2, int(end // width) - first))

    def _line(self, one: Series, host: str, machines: Mapping[str, int]) -> Line:
        metric = self._store.catalogue.metric_by_id[one.metric]
        attributes = dict(one.attributes)
        as_is = one.kind == "gauge" or one.part == "sum"
        unit = metric.unit if as_is else unit_of("1" if one.part == "count" else metric.unit, "rate")
        tells = "traffic" if one.part == "count" else self._units.tells(metric.name)
        sort = sort_of(metric.name, unit, attributes, tells)
        thing = thing_of(host, metric.name, attributes, is_machine=host in machines)
        about = metric.description[:1].lower() + metric.description[1:]
        clock = abs(self._clocks.behind(one.host))
        return Line(thing, metric.name, unit, sort, attributes, about, not as_is, clock)

    # --- what is usual at this hour

    def _usual(self, series: Sequence[Series], steps: Steps, values: F64, rows: Sequence[int]) -> tuple[F64, F64]:
        """What each was at these hours of the days before, [series, steps], and by how much that varied [series]; of
        other `rows` than these nothing."""
        usual, spread = np.full(values.shape, np.nan), np.full(len(series), np.nan)
        wanted = _with_counts(series, rows)
        if not wanted:
            return usual, spread
        first = steps.start // NS // HOUR * HOUR
        hours = int((steps.end // NS - first) // HOUR) + 1
        asked = Steps((first - (DAYS * 24 + AROUND) * HOUR) * NS, HOUR * NS, DAYS * 24 + hours + 2 * AROUND)
        try:
            levels = self._store.scan.levels([series[row].id for row in wanted], asked, "1h")
        except TooMuch:
            return usual, spread
        levels = _with_means([series[row] for row in wanted], levels)
        by_hour = np.full((len(wanted), hours), np.nan)
        for hour in range(hours):
            days = (DAYS - 1 - np.arange(DAYS)) * 24 + hour + AROUND
            held = levels[:, days[:, None] + np.arange(-AROUND, AROUND + 1)]
            found = usual_of(held, np.zeros_like(held))
            by_hour[:, hour] = found.middle[:, AROUND]
            spread[wanted] = np.fmax(spread[wanted], found.spread[:, AROUND])
        which = ((steps.start + np.arange(steps.count) * steps.width) // NS // HOUR * HOUR - first) // HOUR
        usual[wanted] = by_hour[:, which]
        return usual, spread


def _with_counts(series: Sequence[Series], rows: Sequence[int]) -> list[int]:
    """Rows in the order of their series' numbers, with the counts of those that are sums."""
    counts = {(one.host, one.metric, one.attributes): row for row, one in enumerate(series) if one.part == "count"}
    sums = [series[row] for row in rows if series[row].part == "sum"]
    own = {counts[key] for one in sums if (key := (one.host, one.metric, one.attributes)) in counts}
    return sorted({*rows, *own}, key=lambda row: series[row].id)


def _with_means(series: Sequence[Series], values: F64) -> F64:
    """The same, with the mean of what was added in the place of the sums of histograms; nothing where none was."""
    counts = {(one.host, one.metric, one.attributes): row for row, one in enumerate(series) if one.part == "count"}
    for row, one in enumerate(series):
        if one.part == "sum":
            count = counts.get((one.host, one.metric, one.attributes))
            with np.errstate(invalid="ignore", divide="ignore"):
                values[row] = values[row] / values[count] if count is not None else np.nan
    values[~np.isfinite(values)] = np.nan
    return values


def _peak(levels: F64, before: slice, during: slice) -> F64:
    """How far the farthest step of a stretch is from what was before, in robust deviations; none where too little is
    known."""
    middle = median(levels[:, before])
    around = TO_SIGMA * median(np.abs(levels[:, before] - middle[:, None]))
    away = np.abs(levels[:, during] - middle[:, None])
    with np.errstate(invalid="ignore", divide="ignore"):
        far: F64 = np.nan_to_num(np.fmax.reduce(away, axis=1) / np.fmax(around, SHARE * np.abs(middle)), posinf=1e9)
    return far
