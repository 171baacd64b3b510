"""What moved most: held to a plain computation over the points, and to stories whose answer is known."""

from __future__ import annotations

import statistics
import time

import numpy as np
import pytest

from balise.api.metrics import MetricQuery
from balise.api.moved import MovedAnswer, MovedQuery
from balise.api.spans import rfc3339
from balise.core.moments import NS
from balise.core.series.steps import Steps
from balise.server.errors import Refused
from balise.server.parts import Parts
from balise.store.series.query import QueryEngine
from balise.store.series.unpacked import Unpacked
from laying import F64, lay

HOUR, DAY = 3600.0, 86_400.0


@pytest.fixture
def now() -> float:
    return time.time() // HOUR * HOUR


def moved(console: Parts, start: float, end: float, **words: object) -> MovedAnswer:
    return console.most_moved.find(MovedQuery.model_validate({"from": rfc3339(start), "to": rfc3339(end), **words}))


def noise(times: F64, seed: int, level: float = 0.5, width: float = 0.02) -> F64:
    return np.random.default_rng(seed).normal(level, width, len(times))


def test_what_moved_is_told_as_a_plain_computation_says(console: Parts, now: float) -> None:
    """Two hours that are over, five minutes a step, compared with the two hours before them."""
    times = np.arange(now - 8 * HOUR, now, 60.0)
    for number in range(6):
        lay(console, f"calm-{number}", "busy", times, noise(times, number))
    values = noise(times, 99) + np.where((times >= now - 4 * HOUR) & (times < now - 2 * HOUR), 0.3, 0.0)
    lay(console, "gate", "busy", times, values)
    found = moved(console, now - 4 * HOUR, now - 2 * HOUR)
    (one,) = found.items

    def steps(start: float, end: float) -> list[float]:
        return [
            statistics.fmean(values[(times >= at) & (times < at + 300)]) for at in np.arange(start, end, 300.0).tolist()
        ]

    before, during = steps(now - 6 * HOUR, now - 4 * HOUR), steps(now - 4 * HOUR, now - 2 * HOUR)
    middle, mean = statistics.median(before), statistics.fmean(during)
    spread = max(
        1.4826 * statistics.median(abs(v - middle) for v in before),
        0.5 * statistics.pstdev(before),
        0.01,
        0.02 * max(middle, mean),
    )
    assert (one.host, one.metric, one.take, one.direction) == ("gate", "busy", "avg", "up")
    assert (one.before, one.during) == pytest.approx((middle, mean))
    assert one.deviation == pytest.approx((mean - middle) / spread, abs=0.01)
    assert found.looked >= 7 and found.compared_from == now - 6 * HOUR


def test_what_happens_each_night_has_not_moved(console: Parts, now: float) -> None:
    times = np.arange(now - 5 * DAY, now, 300.0)
    hour = (times // HOUR) % 24
    tonight = ((now - 3 * HOUR) // HOUR) % 24
    lay(console, "backup", "busy", times, noise(times, 1) + np.where(hour == tonight, 0.4, 0.0))
    lay(console, "gate", "busy", times, noise(times, 2) + np.where(times >= now - 3 * HOUR, 0.2, 0.0))
    found = moved(console, now - 3 * HOUR, now - 2 * HOUR)
    assert [one.host for one in found.items] == ["gate"] and found.days >= 4


def test_just_now_is_looked_at_minute_by_minute(console: Parts) -> None:
    """What is not put away yet: a stretch of five minutes that no step of five minutes would show."""
    now = time.time() // 60 * 60
    for host, more in (("calm", 0.0), ("gate", 14.0)):
        known = console.directory.ensure(host)
        metric = console.series.catalogue.metric("waiting", "{session}", "gauge", "")
        ids = np.array([console.series.catalogue.series_id(known.id, metric, (), "", "gauge")])
        layout = console.series.catalogue.layouts.of(ids)
        for at in np.arange(now - 2 * HOUR, now, 15.0):
            value = np.array([more if at >= now - 300 else 0.0])
            console.series.accept_now(console.series.batch(layout, np.array([int(at * NS)]), value))
    (one,) = moved(console, now - 300, now).items
    assert (one.host, one.unit, one.before, one.direction) == ("gate", "{session}", 0.0, "up")
    assert one.during == pytest.approx(14.0) and one.deviation == pytest.approx(14 / 0.5)


def test_a_mean_of_a_histogram_moves_and_its_count_does_not(console: Parts, now: float) -> None:
    """Twice as slow, as often as before: told once, as a mean, in seconds."""
    times = np.arange(now - 6 * HOUR, now, 60.0)
    each = np.where(times >= now - 2 * HOUR, 0.9, 0.3)
    known = console.directory.ensure("web")
    metric = console.series.catalogue.metric("answer.time", "s", "histogram", "")
    for part, grown in (("count", np.full(len(times), 60.0)), ("sum", 60.0 * each)):
        one = np.array([console.series.catalogue.series_id(known.id, metric, (("route", "/"),), part, "counter")])
        console.series.lay_down([one], [(times * NS).astype(np.int64)], [np.cumsum(grown)[None]])
    rate = MetricQuery(metric="answer.time", take="rate", from_="-3h")
    assert (
        console.metrics.ask(rate).unit == "1/s"
        and console.metrics.ask(rate.model_copy(update={"take": "p95"})).unit == "s"
    )
    (found,) = moved(console, now - 2 * HOUR, now).items
    assert (found.metric, found.take, found.unit, found.attributes) == ("answer.time", "avg", "s", {"route": "/"})
    assert (found.before, found.during) == pytest.approx((0.3, 0.9))


def test_a_filter_chooses_hosts_or_series(console: Parts, now: float) -> None:
    times = np.arange(now - 4 * HOUR, now, 60.0)
    jump = np.where(times >= now - HOUR, 0.3, 0.0)
    for host, disk in (("a", "vda"), ("a", "vdb"), ("b", "vda")):
        lay(console, host, "busy", times, noise(times, 3) + jump, {"disk": disk})
    start = now - HOUR
    assert {one.host for one in moved(console, start, now).items} == {"a", "b"}
    assert [one.alike for one in moved(console, start, now, where='host eq "a"').items] == [1]
    (one,) = moved(console, start, now, where='disk eq "vdb"').items
    assert (one.host, one.attributes) == ("a", {"disk": "vdb"})
    with pytest.raises(Refused, match="host eq"):
        moved(console, start, now, where="host eq")


@pytest.mark.parametrize("width", [300.0, 3600.0])
def test_the_look_at_all_series_agrees_with_questions_about_each(console: Parts, now: float, width: float) -> None:
    """Gauges and counters with gaps and resets, sealed and not, in both tiers."""
    rng = np.random.default_rng(7)
    start = now - 30 * HOUR
    times = np.sort(rng.uniform(start, now, 4000))
    keep = (times < start + 9 * HOUR) | (times > start + 11.5 * HOUR)
    counted = np.cumsum(rng.integers(0, 50, len(times))).astype(float)
    counted[2500:] -= counted[2500]
    lay(console, "a", "level", times[keep], rng.normal(0, 1, int(keep.sum())))
    lay(console, "a", "boats", times[keep], counted[keep], kind="counter")
    engine = QueryEngine(
        console.series.catalogue, console.series.reader, console.metrics.selector,
        lambda tier: int(now * NS) if tier == "raw" else 0,
    )  # fmt: skip
    steps = Steps(int((now - 20 * HOUR) * NS), int(width * NS), int(18 * HOUR / width))
    for name, take in (("level", "avg"), ("boats", "rate")):
        metric = console.series.catalogue.metrics[name]
        asked = engine.ask(metric, None, steps, take, ["host"])  # type: ignore[arg-type]
        # The second look finds unpacked what the first one left, the third after the pieces were put together.
        for look in range(3):
            looked = console.series.scan.levels(list(metric.series), asked.steps, "1h" if width == 3600 else "5m")
            assert np.array_equal(np.isnan(looked), np.isnan(asked.values))
            assert looked == pytest.approx(asked.values, nan_ok=True)
            if look == 1:
                console.series.compact(int((now + 2 * DAY) * NS))


def test_what_is_kept_unpacked_stays_within_its_room_and_the_least_used_goes() -> None:
    held = Unpacked(most_bytes=4 * 2 * 800)
    made: list[int] = []

    def make(key: int) -> tuple[F64, F64]:
        made.append(key)
        return np.full(100, float(key)), np.ones(100)

    for key in (1, 2, 3, 4, 1, 5, 1, 2):
        found = held.of(key, lambda key=key: make(key))  # type: ignore[misc]
        assert found[0][0] == key
        assert held.held_bytes <= held.most_bytes
    assert made == [1, 2, 3, 4, 5, 2], "one was used in between, so two went when five came"
    with pytest.raises(ValueError, match="read-only"):
        found[0][0] = 9
