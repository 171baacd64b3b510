"""Rehearsing a rule: the same series, windows and limits as at work, over what is stored."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from balise.api.rules import Rehearsal, RehearsedAlert, RuleBody
from balise.core.moments import NS, nanos, seconds_of
from balise.core.rules.limits import LEVEL_NAMES
from balise.core.rules.rehearsal import Arrivals, Breach, Rehearsing, play
from balise.core.series.growth import MAX_GAP
from balise.core.series.steps import Steps
from balise.server.errors import bad_field
from balise.server.hosts.clocks import Clocks
from balise.server.hosts.directory import Directory
from balise.server.metrics.questions import Metrics
from balise.server.rules.watched import LimitsOf, Watched
from balise.store.series.catalogue import Metric
from balise.store.series.query import TooLarge
from balise.store.series.store import SeriesStore

F64 = NDArray[np.float64]
MOST_REHEARSED = 500
STEPS = (1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 1800)
MOST_MOMENTS = 6000
MOST_POINTS = 12_000_000
MOST_ASKED = 60_000_000
"""How many groups times moments."""
POINTS_AT_ONCE = 500_000


class Rehearsals:
    """Finds when a rule would have opened."""

    def __init__(self, *, store: SeriesStore, metrics: Metrics, directory: Directory, clocks: Clocks) -> None:
        self._store = store
        self._metrics = metrics
        self._directory = directory
        self._clocks = clocks

    def run(self, body: RuleBody, start: float, end: float, limits_of: LimitsOf) -> Rehearsal:
        """The rule over [start, end), unix seconds.

        As far back as single points are kept it is asked at moments `step_seconds` apart with the very windows that it
        has at work; for older spans the 5-minute steps that are left have to do.
        """
        rule = Watched("", body, catalogue=self._store.catalogue, directory=self._directory, limits_of=limits_of)
        metric = rule.metric
        if metric is None:
            raise bad_field("rule.measure.metric", f"no metric {body.measure.metric!r} has arrived yet")
        rule.find_series()
        rehearsing = Rehearsing(rule.machine, below=rule.below)
        if start * NS < self._store.kept_since("raw"):
            step = self._by_steps(rule, metric, rehearsing, start, end)
        else:
            step = self._by_points(rule, rehearsing, start, end)
        return _answer(rule, rehearsing.breaches(), step)

    def _by_points(self, rule: Watched, rehearsing: Rehearsing, start: float, end: float) -> float:
        step = next((s for s in STEPS if (end - start) / s <= MOST_MOMENTS), STEPS[-1])
        reach = start - rule.over - (seconds_of(MAX_GAP) if rule.measuring.windows.growing else 0.0)
        points = int(self._store.reader.count(rule.series, nanos(reach), nanos(end)).sum()) if rule.series else 0
        if points > MOST_POINTS or len(rule.groups) * (end - start) / step > MOST_ASKED:
            what = f"{points / 1e6:,.0f} million points of {len(rule.series):,} series in {len(rule.groups):,} groups"
            raise bad_field("from", f"{what} are too much to look at: take a shorter span, or fewer hosts")
        behind = np.broadcast_to(self._clocks.behind_of(rule.hosts), len(rule.series))
        moments = np.arange(start, end, step)
        at_once = max(1, int(len(moments) * POINTS_AT_ONCE / max(1, points)))
        reached = reach
        for at in range(0, len(moments), at_once):
            part = moments[at : at + at_once]
            found = self._arrived(rule, behind, reached, float(part[-1]))
            reached = float(part[-1])
            for moment, values in play(rule.measuring, found, part, behind):
                rehearsing.take(moment, values)
        return float(step)

    def _arrived(self, rule: Watched, behind: F64, after: float, until: float) -> Arrivals:
        """The points that would have come after one moment and until another."""
        low, high = (float(behind.min()), float(behind.max())) if len(behind) else (0.0, 0.0)
        rows, moments, values = self._store.reader.since(rule.series, nanos(after - high), nanos(until - low) + 1)
        times = moments / NS
        came = times + behind[rows] if len(rows) else times
        mine = (came > after) & (came <= until)
        return Arrivals(rows[mine], times[mine], values[mine])

    def _by_steps(self, rule: Watched, metric: Metric, rehearsing: Rehearsing, start: float, end: float) -> float:
        measure = rule.body.measure
        width = max(300.0, -(-((end - start) / 2880) // 300) * 300)
        steps = Steps(int(start // width * width) * NS, int(width) * NS, max(1, int((end - start) // width)))
        try:
            answer = self._metrics.engine.ask(metric, measure.where, steps, measure.take, measure.each)
        except TooLarge as error:
            raise bad_field("from", str(error)) from None
        steps, width = answer.steps, seconds_of(answer.steps.width)
        found = smoothed(answer.values, max(1, round(rule.over / width)), measure.take)
        values = np.full((len(rule.groups), steps.count), np.nan)
        for named, line in zip(answer.named, found, strict=True):
            number = rule.number_of(named)
            if number is not None:
                values[number] = line
        for step in range(steps.count):
            rehearsing.take(steps.start / NS + (step + 1) * width, values[:, step])
        return width


def _answer(rule: Watched, found: list[Breach], step: float) -> Rehearsal:
    items = [
        RehearsedAlert(
            host=rule.groups[breach.group].host_name,
            attributes=rule.groups[breach.group].attributes,
            severity=LEVEL_NAMES[breach.level],
            opened_at=breach.opened_at,
            recovered_at=breach.recovered_at,
            worst_value=breach.worst_value,
        )
        for breach in found
    ]
    return Rehearsal(
        groups=len(rule.groups),
        step_seconds=step,
        unit=rule.unit,
        items=items[-MOST_REHEARSED:],
        left_out=max(0, len(items) - MOST_REHEARSED),
    )


def smoothed(values: Any, steps: int, take: str) -> Any:
    """Values over the last `steps` steps; for `last` the newest of them carries on over gaps."""
    if steps <= 1:
        return values
    out = values.copy()
    for i in range(values.shape[1]):
        window = values[:, max(0, i - steps + 1) : i + 1]
        with np.errstate(all="ignore"):
            if take == "last":
                some = ~np.isnan(window)
                newest = window.shape[1] - 1 - np.argmax(some[:, ::-1], axis=1)
                out[:, i] = window[np.arange(len(window)), newest]
            elif take == "min":
                out[:, i] = np.fmin.reduce(window, axis=1)
            elif take == "max":
                out[:, i] = np.fmax.reduce(window, axis=1)
            else:
                known = ~np.isnan(window)
                total = np.where(known, window, 0.0).sum(axis=1)
                out[:, i] = np.where(known.any(axis=1), total / np.maximum(known.sum(axis=1), 1), np.nan)
    return out
