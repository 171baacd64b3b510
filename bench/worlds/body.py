"""A body of metrics as an agent of a large fleet sends it."""

from __future__ import annotations

from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest

KINDS, POINTS = 40, 200


def body(host: str, at: int) -> bytes:
    """200 points as an agent sends them; a tenth of their attributes have values that only this host has."""
    request = ExportMetricsServiceRequest()
    group = request.resource_metrics.add()
    group.resource.attributes.add(key="host.name").value.string_value = host
    scope = group.scope_metrics.add()
    for i in range(KINDS):
        metric = scope.metrics.add(name=f"system.bench.metric_number_{i:02d}", unit="1", description="of the bench")
        for mode in ("user", "system", "idle", "iowait", "steal"):
            point = metric.gauge.data_points.add(time_unix_nano=at, as_double=0.5 + i)
            point.attributes.add(key="cpu.mode").value.string_value = mode
            own = f"serial-of-{host}" if i % 10 == 3 else str(i)
            point.attributes.add(key="system.device").value.string_value = own
    return request.SerializeToString()
