"""Metric questions as the API, the rules and the evidence ask them."""

from __future__ import annotations

import math
import time
from typing import Any

import numpy as np

from balise.api.metrics import Metric, MetricAnswer, MetricQuery, SeriesAnswer
from balise.api.spans import seconds
from balise.core import filters
from balise.core.moments import seconds_of
from balise.core.series.steps import Steps, steps_between
from balise.server.asking import span_of
from balise.server.errors import Refused, bad_field
from balise.server.hosts.directory import Directory
from balise.store.series.catalogue import Metric as CataloguedMetric
from balise.store.series.query import QueryEngine, Selector, TooLarge
from balise.store.series.store import SeriesStore

MOST_SERIES = 1000
MOST_NUMBERS = 1_000_000
"""How many values one answer tells; series beyond that are left out, and counted."""
MOST_STEPS = 20_000


class Metrics:
    """Questions about metrics."""

    def __init__(self, store: SeriesStore, directory: Directory) -> None:
        self._catalogue = store.catalogue
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

    def ask(self, query: MetricQuery) -> MetricAnswer:
        """The answer to a query.

        Raises:
            Refused: 422 with the field that is wrong, 404 for a metric nobody has sent.
        """
        start, end = span_of(query.from_, query.to, time.time())
        metric = self._catalogue.metrics.get(query.metric)
        if metric is None:
            close = [n for n in self._catalogue.metrics if query.metric.split(".")[-1] in n][:3]
            hint = f" Did you mean {', '.join(sorted(close))}?" if close else ""
            raise Refused(404, f"No metric {query.metric!r} has arrived yet.{hint}")
        steps = steps_between(start, end, step=seconds(query.step) if query.step else None, points=query.points)
        if steps.count > MOST_STEPS:
            raise bad_field("step", f"that is {steps.count} steps; at most {MOST_STEPS} fit one answer: widen it")
        try:
            answer = self.engine.ask(metric, query.where, steps, query.take, query.by)
        except filters.FilterError as error:
            raise bad_field("where", str(error)) from None
        except TooLarge as error:
            raise bad_field("step", str(error)) from None
        steps = answer.steps
        order = self._order(answer.values, query.top)
        chosen = order[: min(MOST_SERIES, MOST_NUMBERS // steps.count)]
        return MetricAnswer(
            metric=metric.name,
            unit=unit_of(metric.unit, query.take),
            step_seconds=seconds_of(steps.width),
            times=step_times(steps),
            series=[SeriesAnswer(attributes=answer.named[i], values=plain(answer.values[i])) for i in chosen],
            tier=answer.tier,
            left_out=len(order) - len(chosen),
            note=answer.note,
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


def unit_of(unit: str, take: str) -> str:
    """The unit of an answer: a rate is by the second (of seconds, a share of the time), a count has none."""
    if take == "count":
        return "1"
    if take == "rate":
        if unit == "s":
            return "1"
        return "1/s" if unit in ("", "1") else f"{unit}/s"
    return unit


def step_times(steps: Steps) -> list[float]:
    return [seconds_of(steps.start + i * steps.width) for i in range(steps.count)]


def plain(values: Any) -> list[float | None]:
    """Floats for JSON: what is not a number is null."""
    return [v if math.isfinite(v) else None for v in values.tolist()]
