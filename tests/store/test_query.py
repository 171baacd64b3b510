"""Metric queries against numbers worked out by hand."""

from __future__ import annotations

import math
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pytest

from balise.core.moments import NS
from balise.core.series.steps import Steps
from balise.store.series.matrices import DAY
from balise.store.series.query import QueryEngine, Selector, TooLarge
from balise.store.series.store import SeriesStore

T0 = 1_800_000_000 * NS // DAY * DAY


class Hosts:
    def __init__(self) -> None:
        self.version = 1
        self.names = {1: "a", 2: "b"}
        self.groups = {1: ["quay", "lights"], 2: ["quay", "lights"]}

    def attribute(self, host: int, name: str) -> object:
        return {"host": self.names.get(host), "group": self.groups.get(host)}.get(name)

    def name(self, host: int) -> str | None:
        return self.names.get(host)


class Fixture:
    def __init__(self, folder: Path) -> None:
        self.store = SeriesStore(folder)
        self.hosts = Hosts()
        self.engine = QueryEngine(
            self.store.catalogue, self.store.reader, Selector(self.store.catalogue, self.hosts), self.store.kept_since
        )

    def put(
        self,
        metric: str,
        values: list[float],
        *,
        host: int = 1,
        kind: str = "gauge",
        part: str = "",
        every: int = 15,
        **attributes: str,
    ) -> None:
        made = self.store.catalogue.metric(metric, "s", "histogram" if part else kind, "")  # type: ignore[arg-type]
        named = tuple(sorted(attributes.items()))
        number = self.store.catalogue.series_id(host, made, named, part, kind)  # type: ignore[arg-type]
        layout = self.store.catalogue.layouts.of(np.array([number]))
        for i, value in enumerate(values):
            self.store.accept_now(self.store.batch(layout, np.array([T0 + i * every * NS]), np.array([value])))

    def ask(
        self,
        metric: str,
        take: str,
        *,
        width: int = 60,
        count: int = 1,
        by: list[str] | None = None,
        where: str | None = None,
    ) -> list[list[float]]:
        found = self.store.catalogue.metrics[metric]
        steps = Steps(T0, width * NS, count)
        return self.engine.ask(found, where, steps, take, by if by is not None else []).values.tolist()  # type: ignore[arg-type]


@pytest.fixture
def box(tmp_path: Path) -> Iterator[Fixture]:
    made = Fixture(tmp_path)
    yield made
    made.store.close()


@pytest.mark.parametrize(
    ("take", "expected"),
    [("avg", 2.5), ("min", 1.0), ("max", 4.0), ("sum", 2.5), ("count", 4.0), ("last", 4.0), ("p50", 2.5)],
)
def test_a_gauge_in_one_step(box: Fixture, take: str, expected: float) -> None:
    box.put("g", [1.0, 2.0, 3.0, 4.0])
    assert box.ask("g", take) == [[expected]]


def test_groups_and_their_names(box: Fixture) -> None:
    box.put("g", [1.0], berth="x")
    box.put("g", [10.0], host=2, berth="x")
    box.put("g", [100.0], host=2, berth="y")
    metric = box.store.catalogue.metrics["g"]
    answer = box.engine.ask(metric, None, Steps(T0, 60 * NS, 1), "sum", ["host"])
    assert (answer.named, answer.values.tolist()) == ([{"host": "a"}, {"host": "b"}], [[1.0], [110.0]])
    by_group = box.engine.ask(metric, None, Steps(T0, 60 * NS, 1), "sum", ["group"])
    assert by_group.named == [{"group": "lights, quay"}]
    missing = box.engine.ask(metric, None, Steps(T0, 60 * NS, 1), "sum", ["nothing"])
    assert missing.named == [{"nothing": ""}]


def test_a_rate_is_growth_a_second_through_a_reset(box: Fixture) -> None:
    box.put("c", [0.0, 30.0, 60.0, 15.0, 45.0], kind="counter")
    # 30 + 30 + 15 + 30 over 4 x 15 s, looked at in steps of 75 s.
    assert box.ask("c", "rate", width=75) == [[pytest.approx(105 / 60)]]


def test_the_rates_of_several_series_are_added_up(box: Fixture) -> None:
    for host in (1, 2):
        box.put("c", [0.0, 15.0, 30.0, 45.0, 60.0], host=host, kind="counter")
    assert box.ask("c", "rate", width=75) == [[2.0]]


def test_a_delta_is_what_it_says_over_its_step(box: Fixture) -> None:
    box.put("d", [6.0, 0.0, 0.0, 6.0], kind="delta")
    assert box.ask("d", "rate") == [[0.2]]
    assert box.ask("d", "sum") == [[12.0]]


def test_a_histogram_answers_count_mean_and_percentiles(box: Fixture) -> None:
    """20 requests in 60 s after the first reading: 10 up to 0.1 s, 10 up to 1 s, 7 s together."""
    for part, last in (("le:0.1", 10.0), ("le:1.0", 10.0), ("le:inf", 0.0), ("count", 20.0), ("sum", 7.0)):
        box.put("h", [0.0, 0.0, 0.0, 0.0, last], kind="counter", part=part)
    assert box.ask("h", "rate", width=75) == [[pytest.approx(20 / 60)]]
    assert box.ask("h", "avg", width=75) == [[pytest.approx(0.35)]]
    assert box.ask("h", "p50", width=75) == [[pytest.approx(0.1)]]
    assert box.ask("h", "p95", width=75) == [[pytest.approx(0.1 + 0.9 * 0.9)]]


def test_a_summary_answers_the_quantiles_it_has(box: Fixture) -> None:
    for part, value in (("q:0.5", 0.2), ("q:0.99", 3.0), ("count", 5.0)):
        box.put("s", [value], kind="gauge" if part.startswith("q") else "counter", part=part)
    assert box.ask("s", "p50") == [[0.2]]
    assert math.isnan(box.ask("s", "p95")[0][0])


def test_steps_that_fit_no_tier_are_answered_in_the_next_wider_that_do(box: Fixture) -> None:
    """Three days at 7-minute steps: 5-minute rollups give 10-minute steps, of ten points each, and say so."""
    metric = box.store.catalogue.metric("long", "1", "gauge", "")
    ids = np.array([box.store.catalogue.series_id(1, metric, (), "", "gauge")])
    times = T0 + np.arange(3 * 1440) * 60 * NS
    box.store.lay_down([ids], [times], [np.ones((1, 4320))])
    answer = box.engine.ask(metric, None, Steps(T0, 420 * NS, 618), "count", [])
    assert (answer.tier, answer.steps.width) == ("5m", 600 * NS)
    assert answer.values[0, :432].tolist() == [10.0] * 432


def test_nothing_heard_is_no_number(box: Fixture) -> None:
    box.put("g", [1.0])
    assert [math.isnan(v) for v in box.ask("g", "avg", count=3)[0]] == [False, True, True]
    assert box.ask("g", "avg", where='host eq "zz"') == []


def test_a_new_series_and_a_removed_host_are_noticed(box: Fixture) -> None:
    box.put("g", [1.0])
    assert box.ask("g", "sum") == [[1.0]]
    box.put("g", [2.0], host=2)
    assert box.ask("g", "sum") == [[3.0]]
    del box.hosts.names[2]
    box.hosts.version += 1
    assert box.ask("g", "sum") == [[1.0]]


def test_a_series_is_in_each_group_of_its_host(box: Fixture) -> None:
    box.put("g", [1.0], host=2, berth="x")
    box.put("g", [1.0], host=1, berth="x")
    box.put("g", [1.0], host=2, berth="x", gate="1")
    metric = box.store.catalogue.metrics["g"]
    first, second, third = metric.series
    box.hosts.groups[2] = ["quay"]
    selector = Selector(box.store.catalogue, box.hosts)
    found = selector.select(metric, None, ["group"], apart=True)
    assert (found.series.tolist(), found.groups.tolist()) == ([first, second, second, third], [0, 1, 0, 0])
    assert (found.named, found.hosts) == ([{"group": "quay"}, {"group": "lights"}], [2, 1])
    lights = found.of_hosts({1})
    assert (lights.series.tolist(), lights.groups.tolist(), lights.named) == ([second], [0], [{"group": "lights"}])
    # The same where what series have of their own is asked too, and where a filter chooses some of them.
    own = selector.select(metric, None, ["group", "berth"], apart=True)
    assert (own.series.tolist(), own.groups.tolist()) == (found.series.tolist(), found.groups.tolist())
    chosen = selector.select(metric, 'gate eq "1" or host eq "a"', ["group"], apart=True)
    assert (chosen.series.tolist(), chosen.groups.tolist()) == ([second, second, third], [0, 1, 1])


def test_an_answer_has_a_limit(box: Fixture) -> None:
    box.put("g", [1.0])
    with pytest.raises(TooLarge, match="wider step"):
        box.engine.ask(box.store.catalogue.metrics["g"], None, Steps(T0, NS, 5_000_000), "avg", [])


def test_what_was_chosen_is_remembered_within_its_room_and_once_for_all_versions(box: Fixture) -> None:
    for n in range(8):
        box.put(f"m{n}", [1.0])
    metrics = box.store.catalogue.metrics
    each = Selector(box.store.catalogue, box.hosts).select(metrics["m0"], None, ["host"]).size
    selector = Selector(box.store.catalogue, box.hosts, capacity=3 * each)
    first = selector.select(metrics["m0"], None, ["host"])
    assert selector.select(metrics["m0"], None, ["host"]) is first
    # Asked again as often as hosts change, it is held once.
    for _ in range(20):
        box.hosts.version += 1
        first = selector.select(metrics["m0"], None, ["host"])
    second = selector.select(metrics["m1"], None, ["host"])
    assert selector.select(metrics["m0"], None, ["host"]) is first
    for n in (2, 3):
        selector.select(metrics[f"m{n}"], None, ["host"])
    # The one that nobody asked for since has gone.
    assert selector.select(metrics["m0"], None, ["host"]) is first
    assert selector.select(metrics["m1"], None, ["host"]) is not second
    last = selector.select(metrics["m1"], None, ["host"])
    selector.let_go()
    assert selector.select(metrics["m1"], None, ["host"]) is not last


def test_before_its_earliest_point_there_is_nothing_of_a_metric(box: Fixture, tmp_path: Path) -> None:
    def nothing(metric: str, start: int, end: int) -> bool:
        steps = Steps(T0 + start * DAY, DAY, end - start)
        return box.engine.first_step(box.store.catalogue.metrics[metric], steps) == steps.count

    box.put("early", [1.0] * 4)
    box.put("late", [1.0])
    before = Steps(T0 - 9 * DAY, 2 * DAY, 6)
    assert box.engine.first_step(box.store.catalogue.metrics["early"], before) == 4
    assert nothing("early", -9, 0) and not nothing("early", -9, 1) and not nothing("early", 0, 1)
    box.store.seal(T0 + DAY)
    assert box.store.head.samples == 0
    assert nothing("early", -9, 0) and not nothing("early", -9, 1)
    # A point that comes late is the earliest from then on.
    number = box.store.catalogue.of_host(1)[0]
    layout = box.store.catalogue.layouts.of(np.array([number]))
    box.store.accept_now(box.store.batch(layout, np.array([T0 - 3 * DAY]), np.array([5.0])))
    assert nothing("early", -9, -3) and not nothing("early", -9, -2)
    box.store.close()
    box.store = SeriesStore(tmp_path)
    again = Selector(box.store.catalogue, box.hosts)
    box.engine = QueryEngine(box.store.catalogue, box.store.reader, again, box.store.kept_since)
    assert nothing("early", -9, -3) and not nothing("early", -9, -2)
    box.store.seal(T0 + DAY)
    assert nothing("early", -9, -3) and not nothing("early", -9, -2)
    assert nothing("late", -9, 0) and not nothing("late", -9, 1)
