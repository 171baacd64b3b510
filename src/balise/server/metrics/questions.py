"""Metric questions as the API, the rules and the evidence ask them."""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

import numpy as np

from balise.api.arithmetic import parse
from balise.api.metrics import Metric, MetricAnswer, MetricAnswers, MetricQuery, SeriesAnswer, Take, Value
from balise.api.spans import seconds, shift_seconds
from balise.core import filters
from balise.core.moments import NS, nanos, seconds_of
from balise.core.rules.computing import compute
from balise.core.series.steps import TIER_SECONDS, Steps, steps_between, whole_span
from balise.server.asking import read_filter, span_of
from balise.server.errors import Refused, bad_field
from balise.server.hosts.directory import Directory
from balise.store.series.catalogue import Metric as CataloguedMetric
from balise.store.series.query import Answer, QueryEngine, Selector, TooLarge
from balise.store.series.store import SeriesStore
from balise.store.series.sweep import Sweep

MOST_SERIES = 1000
MOST_NUMBERS = 1_000_000
"""How many values one answer tells; series beyond that are left out, and counted."""
MOST_STEPS = 20_000
MANY, LONG = 64, 2 * 3600
"""From more series than this over so many seconds on, what is kept of five minutes is as good as every point."""


class Metrics:
    """Questions about metrics."""

    def __init__(self, store: SeriesStore, directory: Directory) -> None:
        self._catalogue = store.catalogue
        self._scan = store.scan
        self._kept_since = store.kept_since
        self.selector = Selector(store.catalogue, directory)
        self.engine = QueryEngine(store.catalogue, store.reader, self.selector, store.kept_since)

    def metric(self, name: str) -> CataloguedMetric | None:
        """The metric of a name; None when nobody has sent it."""
        return self._catalogue.metrics.get(name)

    def known(self, host: int | None = None) -> list[Metric]:
        """All metrics, or those of one host, by name."""
        names = None if host is None else self._catalogue.metrics_of(host)
        return [
            Metric(
                name=m.name,
                unit=m.unit,
                kind=m.kind,
                description=m.description,
                attributes=sorted(m.attributes),
                series=len(m.series),
            )
            for m in sorted(self._catalogue.metrics.values(), key=lambda m: m.name)
            if names is None or m.id in names
        ]

    def ask(self, query: MetricQuery, *, whole: bool = False, kept: Sweep | None = None) -> MetricAnswer:
        """The answer to a query, or with `whole` one value for all of its span.

        With a sweep many series over hours are told in the steps in which they are kept, instead of point by point.

        Raises:
            Refused: 422 with the field that is wrong, 404 for a metric nobody has sent.
        """
        steps = _steps_of(query, whole)
        if steps.count > MOST_STEPS:
            raise bad_field("step", f"that is {steps.count} steps; at most {MOST_STEPS} fit one answer: widen it")
        shift = nanos(shift_seconds(query.shift)) if query.shift else 0
        if steps.start + shift < 0:
            raise bad_field("shift", "that is before 1970")
        asked = Steps(steps.start + shift, steps.width, steps.count)
        if query.values is None:
            answer, name, unit = self._of_metric(query, asked, kept=kept)
        else:
            answer, name, unit = self._computed(query, query.values, asked)
        steps = answer.steps
        order = self._order(answer.values, query.top)
        chosen = order[: min(MOST_SERIES, MOST_NUMBERS // steps.count)]
        return MetricAnswer(
            metric=name,
            unit=unit,
            step_seconds=seconds_of(steps.width),
            times=step_times(Steps(steps.start - shift, steps.width, steps.count)),
            series=[SeriesAnswer(attributes=answer.named[i], values=plain(answer.values[i])) for i in chosen],
            tier=answer.tier,
            left_out=len(order) - len(chosen),
            note=answer.note,
        )

    def sweep(self, queries: Iterable[tuple[MetricQuery, bool]]) -> Sweep:
        """What several questions about many series want, to be read together; each with whether it is for one value of
        the whole span."""
        made = Sweep(self._scan)
        for query, whole in queries:
            metric = self._catalogue.metrics.get(query.metric or "")
            if metric is None or query.shift:
                continue
            try:
                selection = self.selector.select(metric, query.where, query.by, apart=True)
            except filters.FilterError:
                continue
            steps = as_kept(_steps_of(query, whole))
            if len(selection.series) > MANY and self._is_kept(steps) and made.can(selection, steps, query.take):
                made.want(selection, steps)
        return made

    def _is_kept(self, steps: Steps) -> bool:
        return steps.start >= self._kept_since("5m")

    def ask_all(
        self,
        queries: Sequence[MetricQuery],
        applied: Callable[[MetricQuery], MetricQuery],
        *,
        kept: Sweep | None = None,
    ) -> MetricAnswers:
        """The answers to several queries in their order; one that asks what there is not, or too much, says so itself.

        `applied` puts filters that have a name in their place. Raises Refused 422 with the field that is wrong.
        """
        return MetricAnswers(answers=[self._answered(i, query, applied, kept) for i, query in enumerate(queries)])

    def _answered(
        self, place: int, query: MetricQuery, applied: Callable[[MetricQuery], MetricQuery], kept: Sweep | None
    ) -> MetricAnswer:
        try:
            return self.ask(applied(query), kept=kept)
        except Refused as error:
            fields = [f.field for f in error.errors]
            if error.status == 422 and "step" not in fields:
                wrong = [(f"queries.{place}.{f.field}", f.detail) for f in error.errors]
                raise bad_field(*wrong[0]) if wrong else error from None
            name = query.metric or query.compute or ""
            return MetricAnswer(
                metric=name, unit="", step_seconds=0.0, times=[], series=[], tier="raw", problem=error.detail
            )

    def _metric(self, name: str) -> CataloguedMetric:
        metric = self._catalogue.metrics.get(name)
        if metric is None:
            close = [n for n in self._catalogue.metrics if name.rsplit(".", maxsplit=1)[-1] in n][:3]
            hint = f" Did you mean {', '.join(sorted(close))}?" if close else ""
            raise Refused(404, f"No metric {name!r} has arrived yet.{hint}")
        return metric

    def _of_metric(self, query: MetricQuery, steps: Steps, *, kept: Sweep | None = None) -> tuple[Answer, str, str]:
        metric = self._metric(query.metric or "")
        answer = self._values(metric, query.where, steps, query.take, query.by, "where", kept=kept)
        return answer, metric.name, unit_of(metric.unit, query.take, metric.kind)

    def _values(
        self,
        metric: CataloguedMetric,
        where: str | None,
        steps: Steps,
        take: Take,
        by: Sequence[str],
        field: str,
        *,
        kept: Sweep | None = None,
    ) -> Answer:
        try:
            selection = self.selector.select(metric, where, by, apart=True)
            if kept is not None and len(selection.series) > MANY:
                steps = as_kept(steps)
                if self._is_kept(steps) and kept.can(selection, steps, take):
                    return Answer(steps, selection.named, kept.mean(selection, steps), "5m")
            return self.engine.answer(metric, selection, steps, take)
        except filters.FilterError as error:
            raise bad_field(field, str(error)) from None
        except TooLarge as error:
            raise bad_field("step", str(error)) from None

    def _computed(self, query: MetricQuery, values: Mapping[str, Value], steps: Steps) -> tuple[Answer, str, str]:
        """What several metrics together give, group by group; nothing where one of them has nothing."""
        metrics = {name: self._metric(value.metric) for name, value in values.items()}
        read_filter(query.where, "where")

        def asked(at: Steps) -> dict[str, Answer]:
            return {
                name: self._values(
                    metrics[name], both(value.where, query.where), at, value.take, query.by, f"values.{name}.where"
                )
                for name, value in values.items()
            }

        found = asked(steps)
        widest = max((answer.steps for answer in found.values()), key=lambda s: s.width)
        if any(answer.steps != widest for answer in found.values()):
            # What is kept of one is coarser than of another: all are asked for what there is of all.
            found = asked(widest)
        if any(answer.steps != widest for answer in found.values()):
            raise bad_field("step", "the metrics are not kept in the same steps so far back: take steps of whole hours")
        groups = {tuple(named.values()): named for answer in found.values() for named in answer.named}
        places = {key: row for row, key in enumerate(groups)}
        lines = {name: np.full((len(groups), widest.count), np.nan) for name in found}
        for name, answer in found.items():
            lines[name][[places[tuple(named.values())] for named in answer.named]] = answer.values
        text = query.compute or ""
        units = {unit_of(metrics[name].unit, value.take, metrics[name].kind) for name, value in values.items()}
        return (
            Answer(
                steps=widest,
                named=list(groups.values()),
                values=compute(parse(text), lines),
                tier=next((a.tier for a in found.values() if a.tier != "raw"), "raw"),
                note=next((a.note for a in found.values() if a.note), ""),
            ),
            text,
            unit_computed(text, units),
        )

    @staticmethod
    def _order(values: Any, top: int | None) -> list[int]:
        if top is None:
            return list(range(len(values)))
        known = ~np.isnan(values)
        count = known.sum(axis=1)
        means = np.where(known, values, 0.0).sum(axis=1) / np.maximum(count, 1)
        means[count == 0] = -math.inf
        return [int(i) for i in np.argsort(-means, kind="stable")[:top]]


def both(one: str | None, other: str | None) -> str | None:
    """What passes two filters, each of which may be none."""
    parts = [f"({text})" for text in (one, other) if text and text.strip()]
    return " and ".join(parts) or None


def unit_computed(text: str, units: set[str]) -> str:
    """The unit of what is computed: that of all values where they are only added up, else none that is known."""
    return next(iter(units)) if len(units) == 1 and not set(text) & set("*/") else ""


def unit_of(unit: str, take: str, kind: str = "gauge") -> str:
    """The unit of an answer: a rate is by the second (of seconds, a share of the time), a count has none.

    Of histograms and summaries the rate and the change are of how often something was added.
    """
    added = kind in ("histogram", "summary")
    if take == "count" or (take == "change" and added):
        return "1"
    if take == "rate":
        if unit == "s" and not added:
            return "1"
        return "1/s" if unit in ("", "1") or added else f"{unit}/s"
    return unit


def _steps_of(query: MetricQuery, whole: bool) -> Steps:
    start, end = span_of(query.from_, query.to, time.time())
    if whole:
        return whole_span(start, end)
    return steps_between(start, end, step=seconds(query.step) if query.step else None, points=query.points)


def as_kept(steps: Steps) -> Steps:
    """The steps, or as wide ones as are kept where there are some dozens of them in the span."""
    width = TIER_SECONDS["5m"] * NS
    if steps.end - steps.start < LONG * NS or (steps.count > 1 and steps.width >= width):
        return steps
    first, last = steps.start // width * width, -(-steps.end // width) * width
    return Steps(first, last - first, 1) if steps.count == 1 else Steps(first, width, (last - first) // width)


def step_times(steps: Steps) -> list[float]:
    return [seconds_of(steps.start + i * steps.width) for i in range(steps.count)]


def plain(values: Any) -> list[float | None]:
    """Floats for JSON: what is not a number is null."""
    return [v if math.isfinite(v) else None for v in values.tolist()]
