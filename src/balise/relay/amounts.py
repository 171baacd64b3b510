"""What of a body is added up: the points of the metrics that a plan names, as amounts."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from fnmatch import fnmatchcase
from hashlib import blake2b
from typing import Any, Literal

from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest
from opentelemetry.proto.common.v1.common_pb2 import KeyValue
from opentelemetry.proto.metrics.v1.metrics_pb2 import AggregationTemporality, DataPointFlags, Metric
from opentelemetry.proto.resource.v1.resource_pb2 import Resource

How = Literal["level", "counter", "delta"]
"""A level is as it is at a moment; a counter counts from its start on; a delta is what came since the point before."""
NO_VALUE = DataPointFlags.DATA_POINT_FLAGS_NO_RECORDED_VALUE_MASK


@dataclass(frozen=True)
class Kind:
    """What amounts that may be added have in common. `attributes` are a Resource message with those of the points;
    `part` and `bounds` are of histograms: `count`, `sum`, or a number of a bucket."""

    metric: str
    unit: str
    attributes: bytes
    how: How
    part: str = ""
    bounds: tuple[float, ...] = ()


@dataclass(frozen=True)
class Amount:
    """One number of one series, which `whose` tells from all others of its sender and kind. `at` is unix nanoseconds,
    0 where the point does not say."""

    kind: Kind
    whose: bytes
    at: int
    value: float


def picked(request: ExportMetricsServiceRequest, names: Sequence[str]) -> Iterator[Amount]:
    """All that can be added up of metrics with such names, `*` for any characters. What has no value is left out, and
    so are exponential histograms and summaries, as quantiles cannot be added."""
    for group in request.resource_metrics:
        resource = group.resource.SerializeToString(deterministic=True)
        whose = blake2b(resource, digest_size=8).digest()
        for metric in (metric for scope in group.scope_metrics for metric in scope.metrics):
            if is_named(metric.name, names):
                yield from _amounts(metric, whose)


def take_out(request: ExportMetricsServiceRequest, names: Sequence[str]) -> None:
    """Removes from a request what `picked` takes of it."""
    for scope in (scope for group in request.resource_metrics for scope in group.scope_metrics):
        for place in reversed(range(len(scope.metrics))):
            if is_named(scope.metrics[place].name, names) and _how(scope.metrics[place]) is not None:
                del scope.metrics[place]


def points_in(request: ExportMetricsServiceRequest) -> int:
    """How many points there are in a request."""
    metrics = (m for group in request.resource_metrics for scope in group.scope_metrics for m in scope.metrics)
    return sum(len(getattr(m, kind).data_points) for m in metrics if (kind := m.WhichOneof("data")) is not None)


def is_named(metric: str, names: Sequence[str]) -> bool:
    """Whether a metric has one of these names, `*` for any characters."""
    return any(fnmatchcase(metric, name) for name in names)


def _how(metric: Metric) -> How | None:
    kind = metric.WhichOneof("data")
    if kind == "gauge":
        return "level"
    if kind not in ("sum", "histogram"):
        return None
    held = getattr(metric, kind)
    if held.aggregation_temporality == AggregationTemporality.AGGREGATION_TEMPORALITY_DELTA:
        return "delta"
    return "counter" if kind == "histogram" or held.is_monotonic else "level"


def _amounts(metric: Metric, whose: bytes) -> Iterator[Amount]:
    how = _how(metric)
    if how is None:
        return
    for point in getattr(metric, str(metric.WhichOneof("data"))).data_points:
        if point.flags & NO_VALUE:
            continue
        attributes = _sorted(point.attributes)
        for part, value in _numbers(metric, point):
            bounds = tuple(point.explicit_bounds) if part else ()
            kind = Kind(metric.name, metric.unit, attributes, how, part, bounds)
            if math.isfinite(value):
                yield Amount(kind, whose, point.time_unix_nano, value)


def _numbers(metric: Metric, point: Any) -> list[tuple[str, float]]:
    if not metric.HasField("histogram"):
        return [("", point.as_double if point.WhichOneof("value") == "as_double" else float(point.as_int))]
    buckets = [(str(place), float(count)) for place, count in enumerate(point.bucket_counts)]
    total = [("sum", point.sum)] if point.HasField("sum") else []
    return [("count", float(point.count)), *total, *buckets]


def _sorted(attributes: Sequence[KeyValue]) -> bytes:
    return Resource(attributes=sorted(attributes, key=lambda one: one.key)).SerializeToString(deterministic=True)
