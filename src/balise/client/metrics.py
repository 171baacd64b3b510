"""Measured values."""

from __future__ import annotations

from balise.api.foresight import BaselineAnswer, BaselineQuery, ForecastAnswer, ForecastQuery
from balise.api.metrics import Metric, MetricAnswer, MetricQuery
from balise.client.noun import Items, Noun


class Metrics(Noun):
    """What is measured."""

    def list(self, host: str | None = None) -> Items[Metric]:
        """All metrics, or those that a host has.

        >>> [metric.name for metric in balise.metrics.list("quay-a")]
        ['tide']
        """
        return self._connection.items(Metric, "/metrics", host=host)

    def read(self, query: MetricQuery) -> MetricAnswer:
        """Values of a metric over time.

        >>> query = MetricQuery(metric="tide", from_="-10m", points=1, take="max")
        >>> balise.metrics.read(query).series[0].values[-1]
        4.2
        """
        return self._connection.send(MetricAnswer, "POST", "/metrics/query", query)

    def baseline(self, query: BaselineQuery) -> BaselineAnswer:
        """What is usual at each hour of a span, learned from the same hours of the weeks before.

        >>> balise.metrics.baseline(BaselineQuery(metric="tide")).enough
        False
        """
        return self._connection.send(BaselineAnswer, "POST", "/metrics/baseline", query)

    def forecast(self, query: ForecastQuery) -> ForecastAnswer:
        """When a metric gets to a value.

        >>> balise.metrics.forecast(ForecastQuery(metric="tide", at=9)).series[0].reaches_at is None
        True
        """
        return self._connection.send(ForecastAnswer, "POST", "/metrics/forecast", query)
