"""Questions about metrics: several at once, moved in time, computed, by what hosts belong to; held to the points."""

from __future__ import annotations

import time

import numpy as np
import pytest

from balise.api.applications import ApplicationBody
from balise.api.hosts import GroupBody
from balise.api.metrics import MetricAnswer, MetricQueries, MetricQuery
from balise.api.spans import rfc3339
from balise.server.errors import Refused
from balise.server.parts import Parts
from laying import F64, lay

DAY = 86_400.0


@pytest.fixture
def now() -> float:
    return time.time() // 3600 * 3600


def asked(console: Parts, **words: object) -> MetricAnswer:
    return console.metrics.ask(MetricQuery.model_validate(words))


def lines(answer: MetricAnswer) -> dict[tuple[str, ...], list[float | None]]:
    return {tuple(one.attributes.values()): one.values for one in answer.series}


def hours(values: F64) -> list[float]:
    """The mean of each hour, of points five minutes apart."""
    return [float(one) for one in values.reshape(-1, 12).mean(axis=1)]


def test_yesterday_is_told_at_the_times_of_today(console: Parts, now: float) -> None:
    times = np.arange(now - 3 * DAY, now, 300.0)
    values = np.random.default_rng(1).normal(10, 2, len(times))
    lay(console, "a", "tide", times, values)
    span = {"metric": "tide", "from": rfc3339(now - 6 * 3600), "to": rfc3339(now), "step": "1h"}
    answer = asked(console, **span, shift="-1d")
    inside = (times >= now - DAY - 6 * 3600) & (times < now - DAY)
    assert answer.times == [now - (6 - hour) * 3600 for hour in range(6)] == asked(console, **span).times
    assert answer.series[0].values == pytest.approx(hours(values[inside]))


def test_what_is_computed_of_several_metrics_is_computed_step_by_step(console: Parts, now: float) -> None:
    times = np.arange(now - 6 * 3600, now, 300.0)
    rng = np.random.default_rng(2)
    bad, good = rng.uniform(0, 5, len(times)), rng.uniform(50, 90, len(times))
    for host in ("a", "b"):
        lay(console, host, "answers.bad", times, bad, unit="{answer}")
    lay(console, "a", "answers.good", times, good, unit="{answer}")
    span = {"from": rfc3339(now - 6 * 3600), "to": rfc3339(now), "step": "1h"}
    values = {"bad": {"metric": "answers.bad", "take": "avg"}, "good": {"metric": "answers.good", "take": "avg"}}
    found = asked(console, values=values, compute="100 * bad / (bad + good)", **span)
    share = [100 * b / (b + g) for b, g in zip(hours(bad), hours(good), strict=True)]
    assert lines(found)[("a",)] == pytest.approx(share)
    # Of this host one of the two is not known.
    assert lines(found)[("b",)] == [None] * 6
    assert found.unit == "" and asked(console, values=values, compute="bad + good", **span).unit == "{answer}"
    only = asked(console, values=values, compute="bad + good", where='host eq "a"', **span)
    assert list(lines(only)) == [("a",)]


def test_a_host_counts_in_each_group_site_and_application_that_it_is_in(console: Parts, now: float) -> None:
    times = np.arange(now - 3600, now, 300.0)
    level = {"a": 1.0, "b": 2.0, "c": 4.0}
    for host, value in level.items():
        lay(console, host, "tide", times, np.full(len(times), value))
    console.groups.put("north", GroupBody(kind="site", hosts=["a", "b"]), "t")
    console.groups.put("gates", GroupBody(hosts=["b", "c"]), "t")
    drawn = {"parts": [{"name": "web", "host": "a"}, {"name": "back", "group": "gates"}], "needs": []}
    console.applications.put("Booking", ApplicationBody.model_validate(drawn), "t")
    span = {"metric": "tide", "from": rfc3339(now - 3600), "to": rfc3339(now), "step": "1h", "take": "sum"}

    def sums(*by: str) -> dict[tuple[str, ...], float | None]:
        return {key: values[0] for key, values in lines(asked(console, **span, by=list(by))).items()}

    assert sums("group") == {("north",): 3.0, ("gates",): 6.0}
    assert sums("site") == {("north",): 3.0, ("",): 4.0}
    assert sums("application") == {("Booking",): 7.0}
    assert sums("group", "host") == {("gates", "b"): 2.0, ("gates", "c"): 4.0, ("north", "a"): 1.0, ("north", "b"): 2.0}
    of_north = asked(console, **span, where='site eq "north" and application eq "Booking"')
    assert set(lines(of_north)) == {("a",), ("b",)}
    console.applications.delete("Booking", "t")
    assert sums("application") == {("",): 7.0}


def test_several_questions_are_answered_in_order_each_as_alone(console: Parts, now: float) -> None:
    times = np.arange(now - 3600, now, 15.0)
    lay(console, "a", "tide", times, np.arange(len(times), dtype=float))
    one = {"metric": "tide", "from": rfc3339(now - 3600), "to": rfc3339(now), "step": "5m"}
    both = MetricQueries.model_validate({"queries": [{**one, "take": "max"}, {**one, "metric": "ebb"}, one]})
    found = console.metrics.ask_all(both.queries, console.filters.applied).answers
    assert found[0] == asked(console, **one, take="max") and found[2] == asked(console, **one)
    assert found[1].problem == "No metric 'ebb' has arrived yet." and found[1].series == []


@pytest.mark.parametrize(
    ("wrong", "field"),
    [({"where": "host eq"}, "queries.1.where"), ({"filter": "of nobody"}, "queries.1.filter"),
     ({"from": "now", "to": "-1h"}, "queries.1.to"), ({"shift": "-30000d"}, "queries.1.shift")],
)  # fmt: skip
def test_of_several_questions_the_wrong_one_is_named(console: Parts, now: float, wrong: object, field: str) -> None:
    lay(console, "a", "tide", np.array([now - 60]), np.array([1.0]))
    good = {"metric": "tide"}
    asking = MetricQueries.model_validate({"queries": [good, {**good, **wrong}]})  # type: ignore[dict-item]
    with pytest.raises(Refused) as refused:
        console.metrics.ask_all(asking.queries, console.filters.applied)
    assert [one.field for one in refused.value.errors] == [field]


def test_a_change_is_by_how_much_a_counter_grew(console: Parts, now: float) -> None:
    times = np.arange(now - 3600, now, 60.0)
    counted = np.cumsum(np.random.default_rng(3).integers(0, 9, len(times))).astype(float)
    lay(console, "a", "boats", times, counted, kind="counter")
    found = asked(
        console, metric="boats", take="change", step="30m", **{"from": rfc3339(now - 3600), "to": rfc3339(now)}
    )
    assert found.series[0].values == [counted[29] - counted[0], counted[59] - counted[29]]
