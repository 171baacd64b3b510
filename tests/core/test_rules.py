"""Rules: limits that hold, clear and worsen; windows; states; rehearsal."""

from __future__ import annotations

import math
from typing import get_args

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from balise.api.hosts import State, Stretch
from balise.api.limits import Limits
from balise.api.rules import RuleDocument
from balise.core.health import host_state, ribbon, worst
from balise.core.rules.limits import LimitMachine
from balise.core.rules.measuring import OUT, Measuring, Row
from balise.core.rules.rehearsal import rehearse

NONE = float("nan")


def limits(**sides: object) -> Limits:
    return Limits.model_validate(sides)


def levels(machine: LimitMachine, values: list[float], every: float = 1.0) -> list[int]:
    """The level after each value of a single group."""
    found = []
    for i, value in enumerate(values):
        machine.advance(i * every, np.array([value]))
        found.append(int(machine.level[0]))
    return found


def test_a_limit_opens_above_and_clears_at_the_limit() -> None:
    machine = LimitMachine(limits(warning={"above": 10}), 1)
    assert levels(machine, [9, 10, 10.1, 10, 11, 3]) == [0, 0, 1, 0, 1, 0]


def test_between_clear_and_limit_an_open_alert_stays() -> None:
    machine = LimitMachine(limits(critical={"above": 95, "clear": 90}), 1)
    assert levels(machine, [94, 96, 94, 91, 90, 94]) == [0, 2, 2, 2, 0, 0]


def test_a_breach_has_to_last_for_its_hold() -> None:
    machine = LimitMachine(limits(warning={"above": 1, "hold": "3s"}), 1)
    assert levels(machine, [2, 2, 0, 2, 2, 2, 2]) == [0, 0, 0, 0, 0, 0, 1]


def test_below_is_above_turned_round() -> None:
    machine = LimitMachine(limits(warning={"below": 5, "clear": 6}, critical={"below": 2}), 1)
    assert levels(machine, [7, 4, 1, 5.5, 6, 5.5]) == [0, 1, 2, 1, 0, 0]


def test_without_a_value_the_level_stays() -> None:
    machine = LimitMachine(limits(warning={"above": 1}), 1)
    assert levels(machine, [NONE, 2, NONE, NONE, 0]) == [0, 1, 1, 1, 0]


def test_each_change_is_told_once_and_says_since_when() -> None:
    machine = LimitMachine(limits(warning={"above": 1}, critical={"above": 5, "hold": "2s"}), 2)
    told = [machine.advance(float(t), np.array([v, 0.0])) for t, v in enumerate([2, 6, 6, 6, 0])]
    assert [[(c.row, c.before, c.after, c.since) for c in now] for now in told] == [
        [(0, 0, 1, 0.0)],
        [],
        [],
        [(0, 1, 2, 1.0)],
        [(0, 2, 0, 4.0)],
    ]


@given(st.lists(st.lists(st.one_of(st.just(NONE), st.integers(0, 20).map(float)), min_size=3, max_size=3), max_size=30))
def test_many_groups_at_once_go_like_each_alone(steps: list[list[float]]) -> None:
    rule = limits(warning={"above": 8, "hold": "2s", "clear": 6}, critical={"above": 15, "clear": 12})
    together = LimitMachine(rule, 3)
    alone = [LimitMachine(rule, 1) for _ in range(3)]
    for t, values in enumerate(steps):
        together.advance(float(t), np.array(values))
        for machine, value in zip(alone, values, strict=True):
            machine.advance(float(t), np.array([value]))
        assert together.level.tolist() == [int(m.level[0]) for m in alone]


def test_a_restored_level_goes_on_where_it_was() -> None:
    machine = LimitMachine(limits(warning={"above": 10, "clear": 5}, critical={"above": 20, "clear": 15}), 1)
    machine.restore(0, 2)
    assert levels(machine, [16, 14, 4]) == [2, 1, 0]


@pytest.mark.parametrize(
    ("document", "said"),
    [
        ({"limits": {}}, "at least one limit"),
        ({"limits": {"warning": {"above": 1, "below": 2}}}, "exactly one"),
        ({"limits": {"warning": {"above": 1, "clear": 2}}}, "clear must not be higher"),
        ({"limits": {"warning": {"above": 9}, "critical": {"above": 5}}}, "critical must not be below"),
        ({"limits": {"warning": {"above": 1}, "critical": {"below": 5}}}, "both say"),
        ({"limits": {"warning": {"above": 1, "hold": "5"}}}, "not a duration"),
        ({"limits": {"warning": {"above": 1}}, "avice": "x"}, "Extra inputs"),
    ],
)
def test_a_rule_that_makes_no_sense_is_refused(document: dict[str, object], said: str) -> None:
    with pytest.raises(ValidationError, match=said):
        RuleDocument.model_validate({"about": "x", "measure": {"metric": "m"}, **document})


# --- measuring


def measured(
    take: str, points: list[tuple[float, float]], now: float, over: float = 60.0, kind: str = "gauge"
) -> float:
    made = Measuring(take, over)  # type: ignore[arg-type]
    made.add([Row(kind, 0)])  # type: ignore[arg-type]
    times, values = (np.array(column, float) for column in zip(*points, strict=True))
    made.observe(np.zeros(len(points), np.int64), times, values, now)
    return float(made.values(now)[0])


@pytest.mark.parametrize(
    ("take", "expected"), [("avg", 4.0), ("min", 1.0), ("max", 9.0), ("count", 4.0), ("sum", 4.0), ("last", 9.0)]
)
def test_a_window_answers_over_its_length(take: str, expected: float) -> None:
    assert measured(take, [(1000, 100), (1100, 2), (1115, 1), (1130, 4), (1145, 9)], 1150.0) == expected


def test_a_window_forgets_what_has_left_it() -> None:
    assert measured("avg", [(1000, 8.0), (1015, 8.0)], 1020.0) == 8.0
    assert math.isnan(measured("avg", [(1000, 8.0), (1015, 8.0)], 1100.0))


def test_the_rate_of_a_counter_survives_its_reset() -> None:
    points = [(1000.0, 100.0), (1010.0, 200.0), (1020.0, 50.0), (1030.0, 150.0)]
    assert measured("rate", points, 1031.0, kind="counter") == pytest.approx((100 + 50 + 100) / 30)


def test_points_out_of_order_land_in_their_place() -> None:
    assert measured("avg", [(1030, 3.0), (1010, 1.0), (1020, 2.0)], 1031.0) == 2.0
    assert measured("last", [(1030, 3.0), (1010, 1.0), (1020, 2.0)], 1031.0) == 3.0


def test_groups_put_series_together_by_what_is_taken() -> None:
    for take, expected in (("max", 5.0), ("min", 1.0), ("sum", 6.0), ("avg", 3.0), ("last", 5.0), ("count", 2.0)):
        made = Measuring(take, 60.0)  # type: ignore[arg-type]
        made.add([Row("gauge", 0), Row("gauge", 0), Row("gauge", 1), Row("gauge", 2)])
        made.observe(np.array([0, 1, 3]), np.full(3, 1000.0), np.array([1.0, 5.0, 4.0]), 1000.0)
        values = made.values(1001.0)
        assert values[0] == expected
        assert math.isnan(values[1])
        made.move(1, OUT)
        assert made.values(1002.0)[0] == 1.0


# --- rehearsal and states


def test_a_rehearsal_finds_what_would_have_opened() -> None:
    rule = limits(warning={"above": 5}, critical={"above": 8})
    times = np.arange(8.0)
    values = np.array([[1, 6, 9, 7, 1, 1, 6, 6], [1, 1, 1, 1, 1, 1, 1, 1]], float)
    first, second = rehearse(rule, times, values)
    assert (first.group, first.level, first.opened_at, first.recovered_at, first.worst_value) == (0, 2, 1.0, 4.0, 9.0)
    assert first.changes == ((1.0, 1), (2.0, 2), (3.0, 1))
    assert (second.level, second.opened_at, second.recovered_at) == (1, 6.0, None)


@pytest.mark.parametrize(
    ("states", "state"),
    [
        (["ok", "silent", "warning"], "warning"),
        (["ok", "silent"], "silent"),
        (["ok", "paused"], "ok"),
        (["paused"], "paused"),
        ([], "ok"),
        (["critical", "paused"], "critical"),
    ],
)
def test_the_worst_state_counts(states: list[State], state: State) -> None:
    assert worst(states) == state


def test_a_host_is_as_bad_as_its_worst_alert() -> None:
    assert host_state(["warning", "critical"], silent=True, paused=False) == "critical"
    assert host_state([], silent=True, paused=False) == "silent"
    assert host_state(["critical"], silent=False, paused=True) == "paused"


CHANGES = st.lists(st.tuples(st.integers(0, 12), st.sampled_from(get_args(State))), max_size=6).map(
    lambda told: [Stretch(at=at, state=state) for at, state in sorted(told, key=lambda one: one[0])]
)


@given(st.lists(CHANGES, max_size=5), st.integers(0, 6), st.integers(1, 8))
def test_a_ribbon_is_what_each_moment_says(histories: list[list[Stretch]], start: int, long: int) -> None:
    """Against a look at every moment."""
    wanted: list[tuple[float, State]] = []
    for moment in range(start, start + long):
        now = [[one.state for one in history if one.at <= moment][-1:] for history in histories]
        if any(now) and (not wanted or wanted[-1][1] != worst(state for one in now for state in one)):
            wanted.append((moment, worst(state for one in now for state in one)))
    assert [(one.at, one.state) for one in ribbon(histories, start, start + long)] == wanted


def test_a_ribbon_is_the_worst_of_several_over_time() -> None:
    one = [Stretch(at=0, state="ok"), Stretch(at=10, state="warning"), Stretch(at=20, state="ok")]
    two = [Stretch(at=0, state="ok"), Stretch(at=15, state="critical"), Stretch(at=25, state="ok")]
    found = [(s.at, s.state) for s in ribbon([one, two], 5, 100)]
    assert found == [(5, "ok"), (10, "warning"), (15, "critical"), (25, "ok")]
