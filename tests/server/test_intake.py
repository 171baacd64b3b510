"""Bodies of many hosts: whichever way they are looked at, their points are the same."""

from __future__ import annotations

import asyncio
import time

import pytest
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest

from balise.core.moments import NS
from balise.core.series.forms import FEW
from balise.server.parts import Parts
from balise.server.people.access import Principal
from balise.store.series.catalogue import Catalogue

SENDER = Principal("a collector", "administrator")


def body(hosts: int, at: int, first: float) -> bytes:
    request = ExportMetricsServiceRequest()
    for number in range(hosts):
        group = request.resource_metrics.add()
        group.resource.attributes.add(key="host.name").value.string_value = f"pier-{number}"
        metric = group.scope_metrics.add().metrics.add(name="tide", unit="m")
        for berth in ("a", "b"):
            point = metric.gauge.data_points.add(time_unix_nano=at, as_double=first + number + (berth == "b") / 2)
            point.attributes.add(key="berth").value.string_value = berth
    return request.SerializeToString()


@pytest.mark.parametrize("hosts", [1, 3, FEW + 8])
def test_each_point_is_of_its_host_when_it_comes_first_and_again(console: Parts, hosts: int) -> None:
    now = time.time_ns()
    moments = [now - 30 * NS, now - 15 * NS, now]

    async def send() -> None:
        for turn, at in enumerate(moments):
            outcome = await console.metric_intake.take(SENDER, body(hosts, at, 100.0 * turn), as_json=False)
            assert outcome.rejected == 0

    asyncio.run(send())
    catalogue: Catalogue = console.series.catalogue
    assert len(catalogue.metrics["tide"].series) == 2 * hosts
    for number in range(hosts):
        known = console.directory.find(f"pier-{number}")
        assert known is not None
        for one in map(catalogue.series.__getitem__, catalogue.of_host(known.id)):
            [(times, values)] = console.series.reader.raw([one.id], 0, now + 1)
            berth = (dict(one.attributes)["berth"] == "b") / 2
            assert times.tolist() == moments
            assert values.tolist() == [100.0 * turn + number + berth for turn in range(3)]
    assert console.metric_intake.shape_hits == (2 if hosts <= FEW else 0)
