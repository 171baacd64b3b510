"""Measured values."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from balise.api.foresight import BaselineAnswer, BaselineQuery, ForecastAnswer, ForecastQuery
from balise.api.metrics import Metric, MetricAnswer, MetricAnswers, MetricQueries, MetricQuery, Take
from balise.api.moved import MovedAnswer, MovedQuery
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
        >>> 4.2 in balise.metrics.read(query).series[0].values
        True
        """
        return self._connection.send(MetricAnswer, "POST", "/metrics/query", query)

    def read_all(self, queries: Sequence[MetricQuery]) -> Sequence[MetricAnswer]:
        """The answers to several questions at once, in their order; one without an answer says why in `problem`.

        >>> tide = MetricQuery(metric="tide", from_="-10m", points=1, take="max")
        >>> [answer.problem for answer in balise.metrics.read_all([tide, tide.model_copy(update={"metric": "ebb"})])]
        ['', "No metric 'ebb' has arrived yet."]
        """
        asked = MetricQueries(queries=list(queries))
        return self._connection.send(MetricAnswers, "POST", "/metrics/query", asked).answers

    def moved(self, query: MovedQuery) -> MovedAnswer:
        """What moved most in a stretch of time.

        >>> balise.metrics.moved(MovedQuery(from_="-10m")).days
        0
        """
        return self._connection.send(MovedAnswer, "POST", "/metrics/moved", query)

    def picture(
        self,
        metric: str,
        *,
        where: str | None = None,
        from_: str = "-3h",
        to: str = "now",
        take: Take = "avg",
        by: Sequence[str] = ("host",),
        **more: Any,
    ) -> bytes:
        """A chart as a PNG; `more` are filter, shift, top, width and height.

        >>> balise.metrics.picture("tide", width=600, height=300)[1:4]
        b'PNG'
        """
        said = {"metric": metric, "where": where, "from_": from_, "to": to, "take": take, "by": list(by)}
        return self._connection.picture("/charts/picture.png", **said, **more)

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
