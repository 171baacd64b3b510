"""Readings and lines as OTLP requests, protobuf."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from typing import Any

from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceRequest
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest
from opentelemetry.proto.common.v1.common_pb2 import AnyValue, KeyValue
from opentelemetry.proto.metrics.v1.metrics_pb2 import AGGREGATION_TEMPORALITY_CUMULATIVE, Metric

from balise import __version__
from balise.api.events import SEVERITIES
from balise.collect.readings import Kept, LogLine, Meaning, Reading
from balise.core.moments import nanos

EVIDENCE = "balise.evidence."
"""How names of what is kept as evidence begin."""
LOGS_CONTENT = "application/x-protobuf"
_SEVERITY_NUMBER = (21, 19, 18, 17, 13, 10, 9, 5)
"""RFC 5424 codes as OTLP severity numbers: logs data model, appendix B."""


def metrics_request(
    resource: Mapping[str, str],
    readings: Iterable[Reading],
    meanings: Mapping[str, Meaning],
    *,
    at: float,
    since: float,
) -> bytes:
    """An ExportMetricsServiceRequest; `at` and `since` (where counters began) in unix seconds."""
    request = ExportMetricsServiceRequest()
    group = request.resource_metrics.add()
    _attributes(group.resource.attributes, resource)
    scope = group.scope_metrics.add()
    scope.scope.name, scope.scope.version = "balise.agent", __version__
    metrics: dict[str, Metric] = {}
    time, start = nanos(at), nanos(since)
    for reading in readings:
        metric = metrics.get(reading.metric)
        if metric is None:
            metric = metrics[reading.metric] = scope.metrics.add()
            _describe(metric, reading.metric, meanings[reading.metric])
        points = metric.gauge.data_points if metric.HasField("gauge") else metric.sum.data_points
        point = points.add()
        point.time_unix_nano = time
        if metric.HasField("sum"):
            point.start_time_unix_nano = start
        point.as_double = reading.value
        _attributes(point.attributes, reading.attributes)
    return request.SerializeToString()


def _describe(metric: Metric, name: str, meaning: Meaning) -> None:
    metric.name, metric.unit, metric.description = name, meaning.unit, meaning.description
    if meaning.kind == "gauge":
        metric.gauge.SetInParent()
    else:
        metric.sum.aggregation_temporality = AGGREGATION_TEMPORALITY_CUMULATIVE
        metric.sum.is_monotonic = meaning.kind == "counter"


def logs_of_hosts(by_host: Mapping[str, Iterable[LogLine]]) -> bytes:
    """An ExportLogsServiceRequest with the lines of several hosts, each a resource of its own."""
    request = ExportLogsServiceRequest()
    for host, lines in by_host.items():
        _add_lines(request, {"host.name": host}, lines)
    return request.SerializeToString()


def logs_request(resource: Mapping[str, str], lines: Iterable[LogLine], kept: Iterable[Kept]) -> bytes:
    """An ExportLogsServiceRequest with log lines, and what is kept as records with an event name."""
    request = ExportLogsServiceRequest()
    scope = _add_lines(request, resource, lines)
    for one in kept:
        record = scope.log_records.add()
        record.time_unix_nano = nanos(one.time)
        record.event_name = one.name
        if one.name.startswith(EVIDENCE):
            # Most of what an agent keeps, and nobody looks at most of it: as text it is kept as it comes.
            record.body.string_value = json.dumps(one.content, ensure_ascii=False, separators=(",", ":"), default=str)
        else:
            _fill(record.body, one.content)
    return request.SerializeToString()


def _add_lines(request: ExportLogsServiceRequest, resource: Mapping[str, str], lines: Iterable[LogLine]) -> Any:
    """Adds the lines of a resource; answers the scope they are in."""
    group = request.resource_logs.add()
    _attributes(group.resource.attributes, resource)
    scope = group.scope_logs.add()
    scope.scope.name, scope.scope.version = "balise.agent", __version__
    for line in lines:
        record = scope.log_records.add()
        record.time_unix_nano = nanos(line.time)
        code = SEVERITIES.index(line.severity)
        record.severity_number = _SEVERITY_NUMBER[code]  # type: ignore[assignment]
        record.severity_text = line.severity
        record.body.string_value = line.body
        _attributes(record.attributes, {"balise.source": line.source, **line.attributes})
    return scope


def _attributes(into: Any, attributes: Mapping[str, str]) -> None:
    for key, value in attributes.items():
        into.append(KeyValue(key=key, value=AnyValue(string_value=value)))


def _fill(value: AnyValue, content: Any) -> None:
    if isinstance(content, bool):
        value.bool_value = content
    elif isinstance(content, int):
        value.int_value = content
    elif isinstance(content, float):
        value.double_value = content
    elif isinstance(content, Mapping):
        value.kvlist_value.SetInParent()
        for key, part in content.items():
            _fill(value.kvlist_value.values.add(key=str(key)).value, part)
    elif isinstance(content, list | tuple):
        value.array_value.SetInParent()
        for part in content:
            _fill(value.array_value.values.add(), part)
    elif content is not None:
        value.string_value = str(content)
