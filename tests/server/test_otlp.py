"""OTLP in: the public exporters, hostile bodies, and the service killed in the middle."""

from __future__ import annotations

import gzip
import json
import logging
import signal
import threading
import time

import httpx
import pytest
from opentelemetry.exporter.otlp.proto.http._log_exporter import OTLPLogExporter
from opentelemetry.exporter.otlp.proto.http.metric_exporter import OTLPMetricExporter
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import (
    ExportMetricsServiceRequest,
    ExportMetricsServiceResponse,
)
from opentelemetry.sdk._logs import LoggerProvider, LoggingHandler
from opentelemetry.sdk._logs.export import SimpleLogRecordProcessor
from opentelemetry.sdk.metrics import MeterProvider
from opentelemetry.sdk.metrics.export import PeriodicExportingMetricReader
from opentelemetry.sdk.resources import Resource

from balise.api.events import EventQuery
from balise.api.metrics import MetricQuery
from balise.client import Balise
from running import Service, until
from sending import NS, gauge_request, post


def values(
    client: Balise, metric: str, take: str, where: str | None = None, by: list[str] | None = None
) -> list[float]:
    answer = client.metrics.read(
        MetricQuery(metric=metric, where=where, from_="-10m", step="10m", take=take, by=by or [])
    )  # type: ignore[arg-type]
    return [v for s in answer.series for v in s.values if v is not None]


def test_the_public_metric_exporter(service: Service, admin: Balise) -> None:
    exporter = OTLPMetricExporter(
        endpoint=f"{service.url}/v1/metrics", headers={"Authorization": f"Bearer {service.tokens['ingest']}"}
    )
    reader = PeriodicExportingMetricReader(exporter, export_interval_millis=3_600_000)
    resource = Resource.create({"host.name": "sdk-1", "service.name": "tickets"})
    provider = MeterProvider([reader], resource=resource)
    meter = provider.get_meter("test")
    counter, histogram = meter.create_counter("sdk.sold", unit="{ticket}"), meter.create_histogram("sdk.took", unit="s")
    up_down = meter.create_up_down_counter("sdk.queue")
    for i in range(3):
        counter.add(5, {"gate": "4"})
        up_down.add(2 if i else -1)
        for took in (0.2, 0.3, 7.0):
            histogram.record(took)
        assert reader.force_flush()
        time.sleep(0.02)
    assert values(admin, "sdk.sold", "last", 'service.name eq "tickets" and gate eq "4"') == [15.0]
    assert values(admin, "sdk.queue", "last") == [3.0]
    # The first export is where growth is counted from: two of three recordings are seen to grow.
    assert values(admin, "sdk.took", "max") == [7.0]
    kinds = {m.name: m.kind for m in admin.metrics.list() if m.name.startswith("sdk.")}
    assert kinds == {"sdk.sold": "counter", "sdk.took": "histogram", "sdk.queue": "sum"}
    p50 = values(admin, "sdk.took", "p50")[0]
    assert 0.0 <= p50 <= 5.0
    provider.shutdown()


def test_the_public_log_exporter(service: Service, admin: Balise) -> None:
    provider = LoggerProvider(resource=Resource.create({"host.name": "sdk-2", "service.name": "tickets"}))
    exporter = OTLPLogExporter(
        endpoint=f"{service.url}/v1/logs", headers={"Authorization": f"Bearer {service.tokens['ingest']}"}
    )
    provider.add_log_record_processor(SimpleLogRecordProcessor(exporter))
    logger = logging.getLogger("sdk.test")
    logger.propagate = False
    logger.addHandler(LoggingHandler(logger_provider=provider))
    logger.warning("printer %d is out of paper", 3)
    provider.force_flush()
    found = until(lambda: admin.events.search(EventQuery(text="printer", where='host eq "sdk-2"')).items)
    assert (found[0].severity, found[0].source, found[0].body) == ("warning", "tickets", "printer 3 is out of paper")
    provider.shutdown()
    assert "code.function.name" in found[0].attributes or "code.function" in found[0].attributes


def test_otlp_as_json(service: Service, admin: Balise) -> None:
    at = str(time.time_ns())
    body = {
        "resourceMetrics": [
            {
                "resource": {"attributes": [{"key": "host.name", "value": {"stringValue": "json-1"}}]},
                "scopeMetrics": [
                    {
                        "metrics": [
                            {
                                "name": "json.level",
                                "gauge": {
                                    "dataPoints": [
                                        {
                                            "timeUnixNano": at,
                                            "asInt": "42",
                                            "exemplars": [
                                                {"traceId": "5b8efff798038103d269b633813fc60c", "asDouble": 1}
                                            ],
                                        }
                                    ]
                                },
                            }
                        ]
                    }
                ],
            }
        ]
    }
    answer = post(
        service.url, service.tokens["ingest"], "metrics", json.dumps(body).encode(), Content_Type="application/json"
    )
    assert (answer.status_code, answer.json()) == (200, {})
    assert values(admin, "json.level", "last") == [42.0]


def test_gzip_and_its_bombs(service: Service) -> None:
    token = service.tokens["ingest"]
    body = gauge_request("zip-1", "zip.level", [(time.time(), 1.0)]).SerializeToString()
    assert post(service.url, token, "metrics", gzip.compress(body), Content_Encoding="gzip").status_code == 200
    bomb = gzip.compress(b"\x00" * (80 << 20))
    assert len(bomb) < 1 << 20
    for content in (bomb, gzip.compress(body)[:-6], b"no gzip at all"):
        assert post(service.url, token, "metrics", content, Content_Encoding="gzip").status_code == 400
    assert post(service.url, token, "metrics", body, Content_Encoding="br").status_code == 415


@pytest.mark.parametrize(
    ("token", "headers", "body", "status"),
    [
        (None, {}, b"", 401),
        ("nonsense", {}, b"", 401),
        ("viewer", {}, b"", 403),
        ("ingest", {"Content_Type": "text/plain"}, b"", 415),
        ("ingest", {}, b"\xff\xfe\x00", 400),
        ("ingest", {"Content_Type": "application/json"}, b"{]", 400),
        ("ingest", {"Content_Type": "application/json"}, b"[" * 100_000, 400),
        ("ingest", {}, b"", 200),
        ("ingest", {}, b"\x0a\xff\xff\xff\xff\x0f", 400),
    ],
)
def test_what_cannot_be_taken_is_refused(
    service: Service, token: str | None, headers: dict[str, str], body: bytes, status: int
) -> None:
    sent = service.tokens.get(token, token) if token else None
    for kind in ("metrics", "logs"):
        assert post(service.url, sent, kind, body, **headers).status_code == status


def test_points_that_cannot_be_kept_are_counted_in_the_answer(service: Service) -> None:
    now = time.time()
    request = gauge_request("clock-1", "clock.level", [(now, 1.0), (now + 7200, 2.0), (now - 400 * 86_400, 3.0)])
    answer = post(service.url, service.tokens["ingest"], "metrics", request.SerializeToString())
    partial = ExportMetricsServiceResponse.FromString(answer.content).partial_success
    assert (answer.status_code, partial.rejected_data_points) == (200, 2)
    assert "clock" in partial.error_message


def test_a_resource_without_a_host_is_filed_under_its_service_or_refused(service: Service, admin: Balise) -> None:
    request = gauge_request("x", "anonymous.level", [(time.time(), 1.0)])
    request.resource_metrics[0].resource.attributes[0].key = "service.name"
    request.resource_metrics[0].resource.attributes[0].value.string_value = "lonely"
    assert post(service.url, service.tokens["ingest"], "metrics", request.SerializeToString()).content == b""
    assert admin.hosts.show("lonely").collection.mode == "received"
    del request.resource_metrics[0].resource.attributes[:]
    answer = post(service.url, service.tokens["ingest"], "metrics", request.SerializeToString())
    assert ExportMetricsServiceResponse.FromString(answer.content).partial_success.rejected_data_points == 1


def test_hostile_names_are_cleaned(service: Service, admin: Balise) -> None:
    request = gauge_request("../<script>\u202e\x00'a", "hostile", [(time.time(), 1.0)])
    assert post(service.url, service.tokens["ingest"], "metrics", request.SerializeToString()).status_code == 200
    assert "..scripta" in [h.name for h in admin.hosts.list()]


def test_a_changing_body_is_read_right_every_time(service: Service, admin: Balise) -> None:
    """The shape cache must never take one body for another."""
    for i in range(40):
        request = ExportMetricsServiceRequest()
        group = request.resource_metrics.add()
        group.resource.attributes.add(key="host.name").value.string_value = "turning"
        scope = group.scope_metrics.add()
        for name in ("turn.a", "turn.b")[: 1 + i % 2] if i % 3 else ("turn.b", "turn.a"):
            point = scope.metrics.add(name=name).gauge.data_points.add(time_unix_nano=time.time_ns() + i)
            point.as_int = i * (1 if name == "turn.a" else -1)
        assert post(service.url, service.tokens["ingest"], "metrics", request.SerializeToString()).status_code == 200
    assert values(admin, "turn.a", "min")[0] >= 0
    assert values(admin, "turn.b", "max")[0] <= 0
    assert values(admin, "turn.a", "count") == [40.0]


def test_killed_in_the_middle_nothing_acknowledged_is_lost(own_service: Service) -> None:
    service = own_service
    token, start = service.tokens["ingest"], time.time_ns() - 60 * NS
    taken: dict[str, int] = {}
    stop = threading.Event()

    def stream(name: str) -> None:
        with httpx.Client(
            headers={"Authorization": f"Bearer {token}", "Content-Type": "application/x-protobuf"}
        ) as http:
            n = 0
            while not stop.is_set():
                at = (start + n * 1_000_000) / NS
                body = gauge_request("kill-1", "kill.level", [(at, float(n))], {"stream": name}).SerializeToString()
                try:
                    if http.post(f"{service.url}/v1/metrics", content=body).status_code != 200:
                        return
                except httpx.HTTPError:
                    return
                n += 1
                taken[name] = n

    threads = [threading.Thread(target=stream, args=(f"s{i}",)) for i in range(3)]
    for thread in threads:
        thread.start()
    until(lambda: sum(taken.values()) > 300, 30)
    service.stop(signal.SIGKILL)
    stop.set()
    for thread in threads:
        thread.join()
    service.start()
    with service.client() as client:
        answer = client.metrics.read(
            MetricQuery(metric="kill.level", from_="-10m", step="10m", take="count", by=["stream"])
        )
    stored = {s.attributes["stream"]: sum(v or 0 for v in s.values) for s in answer.series}
    for name, count in taken.items():
        assert count <= stored[name] <= count + 1


def test_the_service_stops_in_order_with_streams_open(own_service: Service) -> None:
    with own_service.client() as client:
        stream = client.follow()
        assert next(stream)[0] == "hello"
        began = time.monotonic()
        own_service.stop(signal.SIGTERM)
        assert time.monotonic() - began < 15
    assert "Traceback" not in own_service.log()
