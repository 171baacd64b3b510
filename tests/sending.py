"""OTLP requests made with the public protobuf classes, not with our own."""

from __future__ import annotations

import time
from collections.abc import Mapping, Sequence

import httpx
from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceRequest
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest

from running import PATIENCE

NS = 1_000_000_000


def gauge_request(
    host: str,
    metric: str,
    points: Sequence[tuple[float, float]],
    attributes: Mapping[str, str] | None = None,
    unit: str = "1",
) -> ExportMetricsServiceRequest:
    """One gauge with `(unix seconds, value)` points."""
    request = ExportMetricsServiceRequest()
    group = request.resource_metrics.add()
    group.resource.attributes.add(key="host.name").value.string_value = host
    made = group.scope_metrics.add().metrics.add()
    made.name, made.unit = metric, unit
    for at, value in points:
        point = made.gauge.data_points.add()
        point.time_unix_nano, point.as_double = round(at * NS), value
        for key, text in (attributes or {}).items():
            point.attributes.add(key=key).value.string_value = text
    return request


def log_request(
    host: str, lines: Sequence[tuple[float, int, str]], attributes: Mapping[str, str] | None = None
) -> ExportLogsServiceRequest:
    """Records of `(unix seconds, OTLP severity number, body)`."""
    request = ExportLogsServiceRequest()
    group = request.resource_logs.add()
    group.resource.attributes.add(key="host.name").value.string_value = host
    scope = group.scope_logs.add()
    for at, severity, body in lines:
        record = scope.log_records.add(time_unix_nano=round(at * NS), severity_number=severity)
        record.body.string_value = body
        for key, text in (attributes or {}).items():
            record.attributes.add(key=key).value.string_value = text
    return request


def post(url: str, token: str | None, kind: str, body: bytes, **headers: str) -> httpx.Response:
    """Posts a body to `/v1/metrics` or `/v1/logs`."""
    sent = {"Content-Type": "application/x-protobuf", **{k.replace("_", "-"): v for k, v in headers.items()}}
    if token:
        sent["Authorization"] = f"Bearer {token}"
    return httpx.post(f"{url}/v1/{kind}", content=body, headers=sent, timeout=30 * PATIENCE)


def send_gauge(
    url: str, token: str, host: str, metric: str, value: float, at: float | None = None, **attributes: str
) -> None:
    """Sends one point and insists that it was taken."""
    moment = time.time() if at is None else at
    named = {k.replace("_", "."): v for k, v in attributes.items()}
    answer = post(url, token, "metrics", gauge_request(host, metric, [(moment, value)], named).SerializeToString())
    assert answer.status_code == 200, answer.content
