"""Points as OTLP metric requests, protobuf (opentelemetry-proto, collector metrics service).

A histogram or a summary is kept as series of its parts; those of one moment are put together again. A histogram that
came with exponential buckets goes on with their bounds written out, which says the same. When counters began to count
is not known any more, and left out.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from typing import Any

from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest
from opentelemetry.proto.metrics.v1.metrics_pb2 import AggregationTemporality

from balise.core.series.percentiles import bucket_of
from balise.server.forwards.points import Point

CUMULATIVE = AggregationTemporality.AGGREGATION_TEMPORALITY_CUMULATIVE
DELTA = AggregationTemporality.AGGREGATION_TEMPORALITY_DELTA
Parts = dict[str, Point]


def metrics_of_hosts(points: Iterable[Point]) -> bytes:
    """One request with a resource for each host, in it each metric once with its points in the order given."""
    request = _Request()
    whole: dict[tuple[str, int, object, int], Parts] = {}
    for point in points:
        if point.series.part:
            key = (point.host, point.metric.id, point.series.attributes, point.time)
            whole.setdefault(key, {})[point.series.part] = point
        else:
            request.add(point)
    for parts in whole.values():
        request.add_whole(parts)
    return request.made.SerializeToString()


class _Request:
    """A request that grows."""

    def __init__(self) -> None:
        self.made = ExportMetricsServiceRequest()
        self._scopes: dict[str, Any] = {}
        self._metrics: dict[tuple[str, int, str], Any] = {}

    def add(self, point: Point) -> None:
        """One number of a gauge or a sum."""
        kind = "gauge" if point.series.kind == "gauge" else "sum"
        held = self._held(point, kind, point.series.kind)
        held.data_points.add(time_unix_nano=point.time, as_double=point.value)
        if kind == "sum":
            _describe_sum(held, point)
        _name(held.data_points[-1], point)

    def add_whole(self, parts: Parts) -> None:
        """A histogram or summary of which some parts are here; without a count nobody knows what the others are of."""
        count = parts.get("count")
        if count is None:
            return
        values = {name: point.value for name, point in parts.items()}
        quantiles = {float(name[2:]): value for name, value in values.items() if name.startswith("q:")}
        held = self._held(count, "summary" if quantiles else "histogram", count.series.kind)
        one = held.data_points.add(time_unix_nano=count.time, count=round(count.value))
        _name(one, count)
        if quantiles:
            one.sum = values.get("sum", 0.0)
            for quantile, value in sorted(quantiles.items()):
                one.quantile_values.add(quantile=quantile, value=value)
            return
        held.aggregation_temporality = DELTA if count.series.kind == "delta" else CUMULATIVE
        for name in ("sum", "min", "max"):
            if name in values:
                setattr(one, name, values[name])
        bounds, counts = buckets(values)
        one.explicit_bounds.extend(bounds)
        one.bucket_counts.extend(counts)

    def _held(self, point: Point, form: str, kind: str) -> Any:
        """Where the points of a metric go that are of one form and kind."""
        key = (point.host, point.metric.id, f"{form} {kind}")
        if key not in self._metrics:
            if point.host not in self._scopes:
                group = self.made.resource_metrics.add()
                group.resource.attributes.add(key="host.name").value.string_value = point.host
                self._scopes[point.host] = group.scope_metrics.add()
                self._scopes[point.host].scope.name = "balise"
            told = point.metric
            made = self._scopes[point.host].metrics.add(name=told.name, unit=told.unit, description=told.description)
            self._metrics[key] = getattr(made, form)
        return self._metrics[key]


def _describe_sum(told: Any, point: Point) -> None:
    """Amounts since the point before count up, as far as anybody can tell, until one of them is negative."""
    if point.series.kind == "delta":
        told.is_monotonic = point.value >= 0 and (told.is_monotonic or len(told.data_points) == 1)
        told.aggregation_temporality = DELTA
    else:
        told.is_monotonic = point.series.kind == "counter"
        told.aggregation_temporality = CUMULATIVE


def buckets(values: Mapping[str, float]) -> tuple[list[float], list[int]]:
    """Upper bounds and counts of the buckets among parts, the last without a bound; nothing between two is counted 0.

    >>> buckets({"count": 3.0, "le:1.0": 2.0, "le:inf": 1.0})
    ([1.0], [2, 1])
    >>> buckets({"in:0.0:0.0": 5.0, "in:2.0:4.0": 1.0})
    ([0.0, 2.0, 4.0], [5, 0, 1, 0])
    """
    told = {name: bounds for name in values if (bounds := bucket_of(name)) is not None}
    if not told:
        return [], []
    edges = sorted({edge for pair in told.values() for edge in pair if math.isfinite(edge)})
    counts = [0] * (len(edges) + 1)
    for name, (_, upper) in told.items():
        counts[edges.index(upper) if math.isfinite(upper) else len(edges)] += round(values[name])
    return edges, counts


def _name(one: Any, point: Point) -> None:
    for key, value in point.series.attributes:
        one.attributes.add(key=key).value.string_value = value
