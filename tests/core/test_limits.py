"""Every kind of limit by hand: when it opens and clears, in both directions, with gaps and restarts in the middle."""

from __future__ import annotations

import numpy as np
import pytest

from balise.api.limits import Limit, Limits
from balise.core.rules.kinds.making import Setting
from balise.core.rules.limits import LimitMachine
from balise.core.rules.look import Course, Look, Usual

NONE = float("nan")
HOUR = 3600.0


def limits(**sides: object) -> Limits:
    return Limits.model_validate(sides)


def levels(rule: Limits, looks: list[Look], setting: Setting | None = None, every: float = 1.0) -> list[int]:
    """The level of a single group after each look; half way a new machine goes on from what is kept of the old one."""
    machine = LimitMachine(rule, 1, setting)
    found = []
    for i, look in enumerate(looks):
        if i == len(looks) // 2:
            again = LimitMachine(rule, 1, setting)
            again.restore(0, int(machine.level[0]))
            again.resume(0, machine.breaches_of(0))
            machine = again
        machine.advance(i * every, look)
        found.append(int(machine.level[0]))
    return found


def value(number: float) -> Look:
    return Look(np.array([number]))


def unusual(number: float, middle: float = 10.0, spread: float = 1.0) -> Look:
    return Look(np.array([number]), usual=Usual(np.array([middle]), np.array([spread])))


def going(level: float, slope: float) -> Look:
    course = Course(np.array([level]), np.array([slope]))
    return Look(np.array([level]), courses=(course, course))


def quiet(seconds: float) -> Look:
    return Look(np.array([NONE]), quiet=np.array([seconds]))


def fresh(seconds: float) -> Look:
    return Look(np.array([NONE]), fresh=np.array([seconds]))


TABLE: list[tuple[str, Limits, list[Look], list[int]]] = [
    (
        "outside opens on both sides and clears in a narrower range",
        limits(warning={"outside": [10, 90], "clear": [20, 80]}, critical={"outside": [0, 100]}),
        [value(v) for v in (50, 91, 85, 80, 9, 15, NONE, 20, -1, 101, 95, 50)],
        [0, 1, 1, 0, 1, 1, 1, 0, 2, 2, 1, 0],
    ),
    (
        "unusual above: six deviations and at least five",
        limits(warning={"unusual": 3, "side": "above", "by": 5}, critical={"unusual": 6, "side": "above", "by": 5}),
        [unusual(v) for v in (10, 14, 15.5, 16.5, 15, 14, 1, NONE, 17, 14)],
        [0, 0, 1, 2, 0, 0, 0, 0, 2, 0],
    ),
    (
        "unusual below, and what is usual moves",
        limits(warning={"unusual": 3, "side": "below"}),
        [unusual(7.5), unusual(6.5), unusual(7.5), unusual(7.5, middle=11), unusual(7.5, middle=8)],
        [0, 1, 0, 1, 0],
    ),
    (
        "unusual on both sides clears nearer to the middle",
        limits(warning={"unusual": 4, "side": "both", "clear": 2}),
        [unusual(v) for v in (14.5, 13, 12, 5.5, 7, 8)],
        [1, 1, 0, 1, 1, 0],
    ),
    (
        "nothing is unusual before it is known what is usual",
        limits(warning={"unusual": 3}),
        [unusual(99, middle=NONE, spread=NONE), unusual(99), unusual(99, middle=NONE, spread=NONE), unusual(10)],
        [0, 1, 1, 0],
    ),
    (
        "it runs out: 0.1 an hour from 0.5 is 5 hours to 1",
        limits(warning={"runs_out_within": "6h", "at": 1, "clear": "8h"}, critical={"runs_out_within": "2h", "at": 1}),
        [going(level, slope / HOUR) for level, slope in ((0.3, 0.1), (0.5, 0.1), (0.85, 0.1), (0.3, 0.1), (0.1, 0.1))]
        + [going(1.0, 0.1 / HOUR), going(0.5, 0.0), going(NONE, NONE), going(0.5, -0.1 / HOUR)],
        [0, 1, 2, 1, 0, 2, 0, 0, 0],
    ),
    (
        "it runs out downwards",
        limits(warning={"runs_out_within": "1h", "at": 0}),
        [going(100, -10 / HOUR), going(9, -10 / HOUR), going(9, 10 / HOUR)],
        [0, 1, 0],
    ),
    (
        "what was not heard for a week is no longer expected",
        limits(warning={"missing_for": "10m"}, critical={"missing_for": "1h"}),
        [quiet(s) for s in (0, 600, 601, 3601, 7 * 86400 + 1, 700, 0, NONE)],
        [0, 0, 1, 2, 0, 1, 0, 0],
    ),
    (
        "new is new for as long as the rule looks back",
        limits(warning={"first_seen": True}),
        [fresh(s) for s in (np.inf, 0, 299, 300, 301, NONE, np.inf)],
        [0, 1, 1, 1, 0, 0, 0],
    ),
    (
        "a breach has to last, whatever its kind",
        limits(warning={"outside": [0, 10], "hold": "3s"}),
        [value(v) for v in (11, 12, 5, -1, -1, NONE, -1, 5)],
        [0, 0, 0, 0, 0, 0, 1, 0],
    ),
]


@pytest.mark.parametrize(("rule", "looks", "wanted"), [row[1:] for row in TABLE], ids=[row[0] for row in TABLE])
def test_every_kind_opens_and_clears_as_worked_out_by_hand(rule: Limits, looks: list[Look], wanted: list[int]) -> None:
    assert levels(rule, looks, Setting(news=300.0)) == wanted


def test_the_time_that_is_left_may_be_the_value_itself() -> None:
    rule = limits(warning={"runs_out_within": "14d"}, critical={"runs_out_within": "3d"})
    days = [value(d * 86400) for d in (30, 14, 10, 3, 90)]
    assert levels(rule, days, Setting(at=None)) == [0, 1, 1, 2, 0]


def test_a_group_may_have_limits_of_its_own_or_none() -> None:
    machine = LimitMachine(limits(warning={"outside": [10, 90]}), 3)
    machine.set_limits(1, limits(warning={"outside": [0, 99]}, critical={"outside": [-5, 200]}))
    machine.set_limits(2, limits(warning={"above": 1}))
    machine.advance(0.0, np.array([95.0, 95.0, 50.0]))
    assert machine.level.tolist() == [1, 0, 0]
    machine.silence(0)
    machine.advance(1.0, np.array([95.0, 300.0, 50.0]))
    assert machine.level.tolist() == [0, 2, 0]
    machine.reset_limits(1)
    machine.reset_limits(0)
    machine.advance(2.0, np.array([95.0, 50.0, 50.0]))
    assert machine.level.tolist() == [1, 0, 0]


@pytest.mark.parametrize(
    ("limit", "said"),
    [
        ({}, "write exactly one of above"),
        ({"above": 1, "unusual": 3}, "write exactly one of above"),
        ({"outside": [9, 1]}, "the lower one first"),
        ({"outside": [1, 9], "clear": [0, 5]}, "clear must lie within outside"),
        ({"outside": [1, 9], "clear": 3}, "clear of outside is two numbers"),
        ({"unusual": 3, "clear": 4}, "not higher than unusual"),
        ({"above": 1, "by": 2}, "by goes with unusual"),
        ({"missing_for": "8d"}, "between 1s and 7d"),
        ({"runs_out_within": "1s"}, "between 1m and 90d"),
        ({"runs_out_within": "2h", "clear": "1h"}, "must not be shorter"),
        ({"runs_out_within": "2h", "clear": 3}, "clear of runs_out_within is a time"),
        ({"first_seen": True, "memory": "1s"}, "memory is between"),
        ({"above": 1, "clear": "1h"}, "clear is a number"),
    ],
)
def test_a_limit_that_makes_no_sense_is_refused(limit: dict[str, object], said: str) -> None:
    with pytest.raises(ValueError, match=said):
        Limit.model_validate(limit)
