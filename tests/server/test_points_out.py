"""Points sent on over OTLP: they say what they said when they came, and each arrives at least once."""

from __future__ import annotations

import asyncio
import gzip
import time
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Thread

import pytest
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import (
    ExportMetricsServiceRequest,
    ExportMetricsServiceResponse,
)
from opentelemetry.proto.metrics.v1.metrics_pb2 import AggregationTemporality, Metric

from balise.api.forwards import ForwardBody, OtlpDestination
from balise.api.hosts import HostsChange
from balise.client import Refused
from balise.core import filters
from balise.server.forwards.otlp_points import metrics_of_hosts
from balise.server.forwards.points import POINTS, Points
from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.people.access import Principal
from balise.server.settings import Settings
from balise.store.series.forwarded import Arrived
from running import Service, until
from sending import NS, gauge_request, post

SENDER = Principal("a test", "administrator")
CUMULATIVE = AggregationTemporality.AGGREGATION_TEMPORALITY_CUMULATIVE
DELTA = AggregationTemporality.AGGREGATION_TEMPORALITY_DELTA


def request_of_all_kinds(at: int) -> ExportMetricsServiceRequest:
    request = gauge_request("pier-0", "tide", [(at, 4.25)], {"berth": "a"}, unit="m")
    metrics = request.resource_metrics[0].scope_metrics[0].metrics
    for name, temporality, monotonic in (
        ("sailings", CUMULATIVE, True),
        ("aboard", CUMULATIVE, False),
        ("tickets", DELTA, True),
    ):
        made = metrics.add(name=name, unit="{piece}")
        made.sum.aggregation_temporality, made.sum.is_monotonic = temporality, monotonic
        made.sum.data_points.add(time_unix_nano=at * NS, as_double=17.0)
    waits = metrics.add(name="waits", unit="s")
    waits.histogram.aggregation_temporality = CUMULATIVE
    waits.histogram.data_points.add(
        time_unix_nano=at * NS, count=7, sum=3.5, min=0.01, max=2.0, bucket_counts=[4, 2, 1], explicit_bounds=[0.1, 1.0]
    )
    spans = metrics.add(name="spans", unit="s")
    spans.summary.data_points.add(time_unix_nano=at * NS, count=9, sum=4.5).quantile_values.add(quantile=0.5, value=0.4)
    wide = metrics.add(name="wide", unit="s")
    wide.exponential_histogram.aggregation_temporality = CUMULATIVE
    point = wide.exponential_histogram.data_points.add(time_unix_nano=at * NS, count=6, sum=12.0, scale=0, zero_count=1)
    point.positive.offset = 1
    point.positive.bucket_counts.extend([2, 0, 3])
    return request


def sent_on(console: Parts, names: list[str] | None = None, where: str | None = None) -> ExportMetricsServiceRequest:
    """All that a forward sends of what is there, from the beginning."""
    node = filters.parse(where) if where else None
    points = Points(
        Arrived(console.series), console.series.catalogue, console.directory, names=names or [], where=lambda: node
    )
    items, places = [], {POINTS: (0, 0)}
    while (found := points.step(places)) is not None:
        items += found.items
        places = found.places
    assert points.waiting(places) == 0
    return ExportMetricsServiceRequest.FromString(metrics_of_hosts(items))


def by_name(request: ExportMetricsServiceRequest) -> dict[str, Metric]:
    return {m.name: m for group in request.resource_metrics for m in group.scope_metrics[0].metrics}


def test_points_say_what_they_said_when_they_came(console: Parts) -> None:
    at = int(time.time()) - 60
    came = request_of_all_kinds(at)
    asyncio.run(console.metric_intake.take(SENDER, came.SerializeToString(), as_json=False))
    told, before = by_name(sent_on(console)), by_name(came)
    assert told.keys() == before.keys()
    for name in ("tide", "sailings", "aboard", "tickets", "waits", "spans"):
        told[name].description = before[name].description
        assert told[name] == before[name], name
    # What was exponential has its bounds written out: 0 counts one, 2 to 4 two, 8 to 16 three.
    [wide] = told["wide"].histogram.data_points
    assert (list(wide.explicit_bounds), list(wide.bucket_counts)) == ([0.0, 2.0, 4.0, 8.0, 16.0], [1, 0, 2, 0, 3, 0])
    assert (wide.count, wide.sum, told["wide"].histogram.aggregation_temporality) == (6, 12.0, CUMULATIVE)


@pytest.mark.parametrize("sealed", [False, True])
def test_another_console_has_the_same_points(console: Parts, tmp_path: Path, sealed: bool) -> None:
    now = int(time.time())
    for at in range(now - 120, now, 15):
        body = request_of_all_kinds(at).SerializeToString()
        asyncio.run(console.metric_intake.take(SENDER, body, as_json=False))
    if sealed:
        console.series.seal(now * NS * 2)
    other = build(Settings(data=tmp_path / "other"))
    outcome = asyncio.run(other.metric_intake.take(SENDER, sent_on(console).SerializeToString(), as_json=False))
    assert outcome.rejected == 0
    assert {k: v for k, v in held(other).items() if k[0] != "wide"} == {
        k: v for k, v in held(console).items() if k[0] != "wide"
    }
    close(other)


def held(console: Parts) -> dict[tuple[str, object, str, str], tuple[list[int], list[float]]]:
    catalogue = console.series.catalogue
    found = {}
    for one in catalogue.series.values():
        name = catalogue.metric_by_id[one.metric].name
        if not name.startswith("balise."):
            [(times, values)] = console.series.reader.raw([one.id], 0, 2**62)
            found[name, one.attributes, one.part, one.kind] = (times.tolist(), values.tolist())
    return found


def test_only_what_passes_is_sent_on(console: Parts) -> None:
    at = int(time.time()) - 60
    for host in ("pier-0", "quay-1"):
        for metric in ("tide", "wind.speed", "wind.gusts"):
            body = gauge_request(host, metric, [(at, 1.0)], {"berth": host[-1]}).SerializeToString()
            asyncio.run(console.metric_intake.take(SENDER, body, as_json=False))
    console.hosts.change_many(HostsChange(hosts=["quay-1"], set_labels={"site": "north"}), SENDER.name)
    assert set(by_name(sent_on(console, names=["wind.*"]))) == {"wind.speed", "wind.gusts"}
    for where in ('label.site eq "north"', 'host eq "quay-1"', 'berth eq "1"'):
        [group] = sent_on(console, where=where).resource_metrics
        assert group.resource.attributes[0].value.string_value == "quay-1", where
    assert not sent_on(console, names=["ebb"]).resource_metrics


class Other:
    """Another system that takes metrics over OTLP/HTTP, and answers as it is told."""

    def __init__(self) -> None:
        self.answer: Callable[[], int] = lambda: 200
        self.refuses = 0
        self.values: list[float] = []
        me = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                content = self.rfile.read(int(self.headers["Content-Length"]))
                status, said = me.answer(), b""
                if status == 200:
                    request = ExportMetricsServiceRequest.FromString(gzip.decompress(content))
                    for metric in by_name(request).values():
                        me.values += [point.as_double for point in metric.gauge.data_points]
                    answer = ExportMetricsServiceResponse()
                    answer.partial_success.rejected_data_points = me.refuses
                    said = answer.SerializeToString()
                self.send_response(status)
                self.send_header("Content-Length", str(len(said)))
                self.end_headers()
                self.wfile.write(said)

            def log_message(self, *_: object) -> None:
                pass

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self._server.server_port}/v1/metrics"
        Thread(target=self._server.serve_forever, daemon=True).start()

    def close(self) -> None:
        self._server.shutdown()
        self._server.server_close()


@pytest.fixture
def other() -> Iterator[Other]:
    made = Other()
    yield made
    made.close()


def test_each_point_arrives_whatever_happens_between(own_service: Service, other: Other) -> None:
    def send(value: float) -> None:
        body = gauge_request("pier-0", "tide", [(time.time(), value)]).SerializeToString()
        assert post(own_service.url, own_service.tokens["ingest"], "metrics", body).status_code == 200

    with own_service.client() as admin:
        send(-1.0)
        to = OtlpDestination(protocol="otlp", url=other.url)
        admin.forwards.set("office", ForwardBody(what="points", metrics=["tide"], to=to))
        send(1.0)
        until(lambda: other.values == [1.0])
        other.answer = lambda: 503
        for value in (2.0, 3.0):
            send(value)
        until(lambda: admin.forwards.get("office").state == "failing")
        assert admin.forwards.get("office").waiting >= 2
        own_service.stop(9)
        own_service.start()
        send(4.0)
        other.answer = lambda: 200
        until(lambda: {2.0, 3.0, 4.0} <= set(other.values), 40)
        assert -1.0 not in other.values
        other.refuses = 1
        send(5.0)
        until(lambda: admin.forwards.get("office").problem == "1 were refused and left out")
        with pytest.raises(Refused, match="over otlp alone"):
            syslog = {"protocol": "syslog", "transport": "tcp", "address": "127.0.0.1:9"}
            admin.call("PUT", "/forwards/x", {"what": "points", "to": syslog})
        with pytest.raises(Refused, match="metrics is for"):
            admin.call("PUT", "/forwards/x", {"metrics": ["tide"], "to": to.model_dump()})
