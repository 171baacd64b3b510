"""What a relay adds up of its site when a plan says so: exactly that, once, whatever happens meanwhile."""

from __future__ import annotations

import random
import time
from collections import defaultdict
from pathlib import Path

import pytest
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest
from opentelemetry.proto.metrics.v1.metrics_pb2 import AggregationTemporality

from balise.api.access import NewEnrolmentKey
from balise.api.metrics import MetricQuery
from balise.client import Refused
from balise.relay import sums as sums_module
from balise.relay.amounts import picked, points_in, take_out
from balise.relay.summing import opened, request_of
from balise.relay.sums import Added, Sums, Total
from relaying import RelayProcess, counted, enrolled
from running import Service, until
from sending import NS, gauge_request, post

CUMULATIVE = AggregationTemporality.AGGREGATION_TEMPORALITY_CUMULATIVE
DELTA = AggregationTemporality.AGGREGATION_TEMPORALITY_DELTA
MINUTE = 60 * NS


def body(host: str, at: float, tide: float, sailings: int, tickets: int = 0) -> ExportMetricsServiceRequest:
    """A level, a counter, an amount since the point before, and a histogram that counts from its start."""
    request = gauge_request(host, "tide", [(at, tide)])
    metrics = request.resource_metrics[0].scope_metrics[0].metrics
    for name, how, value in (("sailings", CUMULATIVE, sailings), ("tickets", DELTA, tickets)):
        made = metrics.add(name=name)
        made.sum.aggregation_temporality = how
        made.sum.is_monotonic = True
        made.sum.data_points.add(time_unix_nano=round(at * NS), as_int=value)
    waits = metrics.add(name="waits", unit="s")
    waits.histogram.aggregation_temporality = CUMULATIVE
    waits.histogram.data_points.add(
        time_unix_nano=round(at * NS),
        count=3 * sailings,
        sum=1.5 * sailings,
        bucket_counts=[sailings, 2 * sailings],
        explicit_bounds=[1.0],
    )
    return request


def said(host: int, at: float, request: ExportMetricsServiceRequest, names: list[str] | None = None) -> Added:
    amounts = list(picked(request, names or ["*"]))
    return Added("quays", MINUTE, host, f"host:{host}", round(at * NS), amounts)


def found(totals: list[Total]) -> dict[tuple[str, str, int], tuple[float, int]]:
    """By metric, part and second of the end: the sum, and of how many hosts."""
    return {(t.kind.metric, t.kind.part, t.end // NS): (t.value, t.hosts) for t in totals}


def taken(sums: Sums, now: float) -> dict[tuple[str, str, int], tuple[float, int]]:
    """What is whole at a moment, which is sent on with that."""
    sums.close_due(round(now * NS))
    totals = sums.closed()
    sums.sent(totals)
    return found(totals)


def test_levels_are_added_as_they_were_last_and_increases_all(tmp_path: Path) -> None:
    sums = Sums(tmp_path / "sums.db")
    for at in (615, 630, 645, 660, 675):
        for host in (1, 2):
            sums.add([said(host, at, body(f"pier-{host}", at, at * host, 2 * at * host, 5))])
    # 660 ends the first minute and is of it; the first point of a counter says nothing of what came before it.
    assert taken(sums, 689.9) == {}
    assert taken(sums, 690) == {
        ("tide", "", 660): (660 * 3, 2),
        ("sailings", "", 660): (90 * 3, 2),
        ("tickets", "", 660): (4 * 5 * 2, 2),
        ("waits", "count", 660): (3 * 90 * 3, 2),
        ("waits", "sum", 660): (1.5 * 90 * 3, 2),
        ("waits", "0", 660): (90 * 3, 2),
        ("waits", "1", 660): (2 * 90 * 3, 2),
    }
    assert taken(sums, 690) == {}
    assert taken(sums, 750)[("sailings", "", 720)] == (2 * 15 * 3, 2)


def test_what_comes_again_is_added_once_and_a_counter_that_began_anew_from_there(tmp_path: Path) -> None:
    sums = Sums(tmp_path / "sums.db")
    for at, value in ((605, 100), (620, 130), (620, 130), (605, 100), (635, 7), (650, 10)):
        sums.add([said(1, at, body("pier", at, value, value, 1), ["sail*", "tickets"])])
    assert taken(sums, 690) == {("sailings", "", 660): (30 + 7 + 3, 1), ("tickets", "", 660): (4, 1)}


def test_what_comes_too_late_loses_no_increase(tmp_path: Path) -> None:
    sums = Sums(tmp_path / "sums.db")
    sums.add([said(1, 610, body("pier", 610, 1, 100, 1))])
    assert taken(sums, 690)[("tide", "", 660)] == (1, 1)
    sums.add([said(1, 700, body("pier", 650, 2, 130, 4))])
    assert sums.left_out == 1
    late = taken(sums, 750)
    assert ("tide", "", 660) not in late
    assert late[("sailings", "", 720)] == (30, 1)
    assert late[("tickets", "", 720)] == (4, 1)


def test_a_step_is_the_same_whoever_asks_until_it_was_sent(tmp_path: Path) -> None:
    sums = Sums(tmp_path / "sums.db")
    sums.add([said(1, 610, body("pier", 610, 1, 100)), said(1, 640, body("pier", 640, 2, 130))])
    sums.close_due(690 * NS)
    first = sums.closed()
    # It was put into the buffer, and the relay ended before it could say so.
    sums.close()
    sums = Sums(tmp_path / "sums.db")
    sums.add([said(1, 691, body("pier", 655, 9, 200))])
    sums.close_due(691 * NS)
    assert sums.closed() == first
    sums.sent(first)
    assert taken(sums, 750)[("sailings", "", 720)] == (70, 1)


def test_a_clock_that_was_ahead_holds_nothing_back(tmp_path: Path) -> None:
    sums = Sums(tmp_path / "sums.db")
    sums.add([said(1, 610, body("pier", 610, 1, 100))])
    assert taken(sums, 100_000)
    sums.close_due(630 * NS)
    sums.add([said(1, 640, body("pier", 640, 5, 110))])
    assert taken(sums, 690)[("tide", "", 660)] == (5, 1)


def test_histograms_with_other_bounds_and_too_many_series_are_left_out(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    sums = Sums(tmp_path / "sums.db")
    sums.add([said(1, 610, body("pier-1", 610, 1, 100), ["waits"])])
    other = body("pier-2", 610, 1, 100)
    other.resource_metrics[0].scope_metrics[0].metrics[3].histogram.data_points[0].explicit_bounds[0] = 2.0
    sums.add([said(2, 610, other, ["waits"])])
    assert sums.left_out == 4
    monkeypatch.setattr(sums_module, "MOST_OF_ONE", 6)
    for number in range(4):
        points = gauge_request("pier-1", "tide", [(611, 1.0)], {"serial": str(number)})
        sums.add([said(1, 611, points)])
    assert sums.left_out == 4 + 2
    sums.close_due(700 * NS)
    assert [total.kind.metric for total in sums.closed()].count("tide") == 2


@pytest.mark.parametrize("seed", range(3))
def test_sums_are_those_of_a_plain_reading(tmp_path: Path, seed: int) -> None:
    chance = random.Random(seed)
    path = tmp_path / "sums.db"
    sums = Sums(path)
    level: dict[tuple[int, int], float] = {}
    rise: dict[int, float] = defaultdict(float)
    counts = dict.fromkeys(range(5), 0)
    seen: set[int] = set()
    got: dict[tuple[str, str, int], tuple[float, int]] = {}
    for at in range(600, 1800, 10):
        for host in range(5):
            if chance.random() < 0.3:
                continue
            more = chance.randrange(50)
            before = counts[host]
            counts[host] = more if chance.random() < 0.05 else before + more
            # A counter that began anew is seen to have when it stands lower than before.
            step = counts[host] - before if counts[host] >= before else more
            end = -(-at // 60) * 60
            level[(host, end)] = at / 7 + host
            if host in seen:
                rise[end] += step
            seen.add(host)
            one = said(host, at, body(f"pier-{host}", at, at / 7 + host, counts[host]), ["tide", "sailings"])
            sums.add([one] * chance.choice([1, 1, 2]))
        got |= taken(sums, at)
        if chance.random() < 0.1:
            sums.close()
            sums = Sums(path)
    got |= taken(sums, 2000)
    for end in range(660, 1861, 60):
        values = [value for (_, step), value in level.items() if step == end]
        if values:
            assert got[("tide", "", end)] == (pytest.approx(sum(values), abs=1e-9), len(values))
            assert got[("sailings", "", end)][0] == rise[end]
    assert sums.left_out == 0


def test_a_file_that_is_damaged_is_put_beside_and_sums_begin_anew(tmp_path: Path) -> None:
    path = tmp_path / "sums.db"
    sums = opened(path)
    sums.add([said(1, 610, body("pier", 610, 1, 100))])
    sums.close()
    path.write_bytes(b"no database at all" * 500)
    sums = opened(path)
    assert (tmp_path / "sums.db.damaged").read_bytes().startswith(b"no database")
    sums.add([said(1, 640, body("pier", 640, 5, 110))])
    assert taken(sums, 690)[("tide", "", 660)] == (5, 1)


def test_what_is_summed_only_is_taken_out_and_all_else_is_left() -> None:
    request = body("pier", 600, 1, 2)
    assert points_in(request) == 4
    take_out(request, ["tide", "wai*"])
    assert [metric.name for metric in request.resource_metrics[0].scope_metrics[0].metrics] == ["sailings", "tickets"]
    assert points_in(request) == 2
    summary = ExportMetricsServiceRequest()
    summary.resource_metrics.add().scope_metrics.add().metrics.add(name="tide").summary.data_points.add(count=1)
    assert list(picked(summary, ["*"])) == []
    before = summary.SerializeToString()
    take_out(summary, ["*"])
    assert summary.SerializeToString() == before


def test_sums_are_told_as_otlp_has_them(tmp_path: Path) -> None:
    sums = Sums(tmp_path / "sums.db")
    sums.add([said(1, at, body("pier", at, at, at)) for at in (610, 650)])
    sums.close_due(700 * NS)
    metrics = ExportMetricsServiceRequest.FromString(request_of(sums.closed(), "south-1"))
    by_name = {metric.name: metric for metric in metrics.resource_metrics[0].scope_metrics[0].metrics}
    assert sorted(by_name) == ["balise.site.hosts", "site.sailings", "site.tickets", "site.tide", "site.waits"]
    assert by_name["site.tide"].gauge.data_points[0].as_double == 650
    added = by_name["site.sailings"].sum
    assert (added.aggregation_temporality, added.is_monotonic) == (DELTA, True)
    assert [(p.start_time_unix_nano, p.time_unix_nano, p.as_double) for p in added.data_points] == [
        (600 * NS, 660 * NS, 40)
    ]
    waits = by_name["site.waits"].histogram.data_points[0]
    assert (waits.count, waits.sum, list(waits.bucket_counts), list(waits.explicit_bounds)) == (120, 60, [40, 80], [1])
    assert by_name["site.waits"].unit == "s"
    pairs = {a.key: a.value.string_value for a in waits.attributes}
    assert pairs == {"balise.plan": "quays", "balise.relay": "south-1"}


def test_a_relay_adds_up_by_plan_and_a_kill_loses_nothing(own_service: Service, tmp_path: Path) -> None:
    with own_service.client() as admin:
        key = admin.keys.create(NewEnrolmentKey(label="quay", uses=4, site="northquay")).key
        relay = RelayProcess(own_service, tmp_path, key)
        tokens = enrolled(admin, key, ["pier-0", "pier-1"])
        admin.plans.apply("sums", "plan: sums\nrelay:\n  sums: {metrics: [tide, sail*], every: 15s, only: true}\n")
        settings = {one.setting: one.value for one in admin.hosts.plan("pier-0").settings}
        assert settings["relay.sums"] == "tide, sail*, each 15s; no points of their own"

        sailings = 0

        def send() -> None:
            nonlocal sailings
            sailings += 7
            for name, token in tokens.items():
                sent = body(name, time.time(), 3.0, sailings, 1).SerializeToString()
                assert post(relay.url, token, "metrics", sent).status_code == 200

        def is_summed() -> bool:
            send()
            return bool((admin.relays.list()[0].report or {}).get("summed"))

        until(is_summed, 60)
        before = counted(admin, "tickets", "pier-0")
        for turn in range(20):
            send()
            if turn in (7, 13):
                relay.kill()
                relay.start()
            time.sleep(0.5)
        # Tickets are not added up: they come as they were sent.
        until(lambda: counted(admin, "tickets", "pier-0") == before + 20)

        def total() -> float:
            where = 'host eq "site.northquay"'
            query = MetricQuery(metric="site.sailings", where=where, from_="-15m", step="15m", take="change")
            try:
                return sum(v or 0 for s in admin.metrics.read(query).series for v in s.values)
            except Refused:
                return 0.0

        # What came before the relay knew of the plan, if anything did, was sent on as it was; all since is in the sums
        # alone, but for what stands at each host's first point there.
        alone = {name: counted(admin, "tide", name) for name in tokens}
        assert max(alone.values()) < sailings / 7 - 20
        until(lambda: total() == sum(sailings - 7 * (count + 1) for count in alone.values()), 120)
        query = MetricQuery(metric="site.tide", from_="-15m", step="15s", take="max", by=["host"])
        assert {v for s in admin.metrics.read(query).series for v in s.values if v is not None} <= {3.0, 6.0}
        assert (admin.relays.list()[0].report or {})["unsummed"] == 0
        relay.stop()
