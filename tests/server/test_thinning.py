"""What relays send on when a plan says that it is less: exactly what is left, and what is not."""

from __future__ import annotations

import time
from pathlib import Path

import pytest
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest
from opentelemetry.proto.metrics.v1.metrics_pb2 import AggregationTemporality

from balise.api.access import NewEnrolmentKey
from balise.api.metrics import MetricQuery
from balise.relay import thinning
from balise.relay.thinning import Thinner
from relaying import RelayProcess, counted, enrolled
from running import Service, until
from sending import NS, gauge_request, post

NOW = 1_000_000 * NS
CUMULATIVE = AggregationTemporality.AGGREGATION_TEMPORALITY_CUMULATIVE
DELTA = AggregationTemporality.AGGREGATION_TEMPORALITY_DELTA


def body(at: float, value: float) -> ExportMetricsServiceRequest:
    """A gauge of two berths, a counter, an amount since the point before, and a histogram, all of one moment."""
    request = gauge_request("pier-0", "tide", [(at, value)], {"berth": "a"})
    request.MergeFrom(gauge_request("pier-0", "tide", [(at, value + 1)], {"berth": "b"}))
    metrics = request.resource_metrics[0].scope_metrics[0].metrics
    for name, how in (("sailings", CUMULATIVE), ("tickets", DELTA)):
        made = metrics.add(name=name)
        made.sum.aggregation_temporality = how
        made.sum.is_monotonic = True
        made.sum.data_points.add(time_unix_nano=round(at * NS), as_int=int(value))
    waits = metrics.add(name="waits")
    waits.histogram.aggregation_temporality = CUMULATIVE
    waits.histogram.data_points.add(
        time_unix_nano=round(at * NS), count=int(value), sum=value, bucket_counts=[1, 2], explicit_bounds=[1.0]
    )
    return request


def told(content: bytes | None) -> list[tuple[str, int]]:
    """The names and seconds of what is left."""
    found = []
    for group in ExportMetricsServiceRequest.FromString(content or b"").resource_metrics:
        for metric in group.scope_metrics[0].metrics:
            held = getattr(metric, metric.WhichOneof("data"))
            found += [(metric.name, point.time_unix_nano // NS) for point in held.data_points]
    return sorted(found)


def test_of_each_series_the_first_point_of_a_minute_is_left_and_amounts_all() -> None:
    thinner = Thinner()
    left: list[tuple[str, int]] = []
    for at in range(600, 780, 15):
        made = thinner.of("host:1", body(at, at - 500).SerializeToString(), 60, NOW)
        thinner.note("host:1", made)
        left += told(made.content)
    minutes = [600, 660, 720]
    assert sorted(left) == sorted(
        [(name, at) for name in ("tide", "tide", "sailings", "waits") for at in minutes]
        + [("tickets", at) for at in range(600, 780, 15)]
    )
    assert thinner.left_out == 4 * 9


def test_a_body_of_which_all_is_left_is_the_very_bytes_that_came() -> None:
    sent = body(600, 1).SerializeToString()
    assert Thinner().of("host:1", sent, 60, NOW).content is sent


def test_what_could_not_be_written_comes_again_and_what_comes_again_is_left_out() -> None:
    thinner = Thinner()
    sent = body(600, 1).SerializeToString()
    assert thinner.of("host:1", sent, 60, NOW).content == sent
    # It was not written: nothing was noted, and the sender sends it again.
    again = thinner.of("host:1", sent, 60, NOW)
    assert again.content == sent
    thinner.note("host:1", again)
    assert told(thinner.of("host:1", sent, 60, NOW).content) == [("tickets", 600)]
    # Another sender's series of the same names are others.
    assert thinner.of("host:2", sent, 60, NOW).content == sent


def test_points_of_before_that_come_late_are_left_by_their_own_minutes() -> None:
    thinner = Thinner()
    for at in (720, 600, 615, 660, 735):
        made = thinner.of("host:1", gauge_request("pier-0", "tide", [(at, 1.0)]).SerializeToString(), 60, NOW)
        thinner.note("host:1", made)
        assert bool(made.content) == (at not in (615,)), at


def test_a_point_without_a_moment_is_of_the_one_at_which_it_came() -> None:
    thinner = Thinner()
    sent = gauge_request("pier-0", "tide", [(0, 1.0)]).SerializeToString()
    left = []
    for second in range(600, 780, 15):
        made = thinner.of("host:1", sent, 60, second * NS)
        thinner.note("host:1", made)
        left += [second] if made.content else []
    assert left == [600, 660, 720]


def test_what_is_remembered_of_all_senders_together_has_a_bound(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(thinning, "MOST", 6)
    thinner = Thinner()
    for number in range(10):
        thinner.note(f"host:{number}", thinner.of(f"host:{number}", body(600, 1).SerializeToString(), 60, NOW))
        assert sum(map(len, thinner._sent.values())) <= 6
    assert "host:9" in thinner._sent


def test_a_sender_of_ever_new_series_takes_no_more_than_its_room(monkeypatch: pytest.MonkeyPatch) -> None:
    thinner = Thinner()
    for number in range(40):
        points = gauge_request("pier-0", "tide", [(600, 1.0)], {"serial": str(number)}).SerializeToString()
        thinner.note("host:1", thinner.of("host:1", points, 60, NOW))
    assert len(thinner._sent["host:1"]) == 40
    monkeypatch.setattr(thinning, "MOST_SERIES", 40)
    points = gauge_request("pier-0", "tide", [(600, 1.0)], {"serial": "new"}).SerializeToString()
    for _ in range(2):
        made = thinner.of("host:1", points, 60, NOW)
        thinner.note("host:1", made)
        assert made.content == points
    assert len(thinner._sent["host:1"]) == 40


def test_a_relay_thins_out_by_plan_and_a_kill_loses_nothing(own_service: Service, tmp_path: Path) -> None:
    with own_service.client() as admin:
        key = admin.keys.create(NewEnrolmentKey(label="quay", uses=4, site="northquay")).key
        relay = RelayProcess(own_service, tmp_path, key)
        tokens = enrolled(admin, key, ["pier-0", "pier-1"])
        admin.plans.apply("less", "plan: less\nfor: {host: pier-0}\nrelay: {thin: 1m}\n")
        settings = {one.setting: one.value for one in admin.hosts.plan("pier-0").settings}
        assert settings["relay.thin"] == "1m"
        start = int(time.time()) // 60 * 60 - 600

        def send(name: str, at: int) -> None:
            sent = gauge_request(name, "tide", [(at, float(at % 1000))]).SerializeToString()
            assert post(relay.url, tokens[name], "metrics", sent).status_code == 200

        for name in tokens:
            send(name, start - 60)
        # The relay learns of the plan once it has shown the token of the host.
        until(lambda: counted(admin, "tide", "pier-0") == 1)

        def is_thinned() -> bool:
            at = start - 50
            send("pier-0", at)
            return bool((admin.relays.list()[0].report or {}).get("thinned"))

        until(is_thinned, 60)
        before = counted(admin, "tide", "pier-0")
        for turn, at in enumerate(range(start, start + 300, 15)):
            for name in tokens:
                send(name, at)
            if turn == 7:
                relay.kill()
                relay.start()
                # What it had sent on it knows no more: one more point of that minute may come.
        until(lambda: counted(admin, "tide", "pier-1") == 1 + 20)
        answer = admin.metrics.read(
            MetricQuery(metric="tide", where='host eq "pier-0"', from_="-30m", step="15s", take="last", by=["host"])
        )
        found = {int(t): v for t, v in zip(answer.times, answer.series[0].values, strict=True) if v is not None}
        for at in range(start, start + 300, 60):
            assert found[at] == float(at % 1000)
        assert before + 5 <= counted(admin, "tide", "pier-0") <= before + 6 + 2
        relay.stop()
