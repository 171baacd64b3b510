"""Trends beside a plain computation, and on series with known slopes, steps, teeth and outliers."""

from __future__ import annotations

import itertools
import math
import statistics
from collections.abc import Callable

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from balise.core.rules.courses import SLOTS, Courses
from balise.core.rules.trend import Seen, reached, trends, trusted
from running import often

HOUR, DAY = 3600.0, 86_400.0
START = 1_800_000_000.0


@settings(max_examples=often(150), deadline=None)
@given(st.lists(st.one_of(st.none(), st.integers(-50, 50)), min_size=6, max_size=14))
def test_the_slope_is_the_median_of_all_slopes(values: list[int | None]) -> None:
    times = [60.0 * i for i in range(len(values))]
    known = [(t, float(v)) for t, v in zip(times, values, strict=True) if v is not None]
    found = trends(np.array(times), np.array([[math.nan if v is None else v for v in values]], float), times[-1])
    if len(known) < 6:
        assert np.isnan(found.slope[0])
        return
    slopes = [(b - a) / (t - s) for (s, a), (t, b) in itertools.combinations(known, 2)]
    slope = statistics.median(slopes)
    assert found.slope[0] == pytest.approx(slope)
    assert found.level[0] == pytest.approx(statistics.median(v - slope * (t - times[-1]) for t, v in known))
    assert found.slowest[0] <= slope <= found.fastest[0]
    assert found.span[0] == known[-1][0] - known[0][0]


def test_a_third_of_the_points_may_be_anything() -> None:
    rng = np.random.default_rng(4)
    times = np.arange(48) * HOUR
    values = 0.3 + 0.01 * times / HOUR + rng.normal(0, 0.002, 48)
    values[rng.choice(48, 14, replace=False)] = rng.uniform(-5, 5, 14)
    found = trends(times, values[None], times[-1])
    assert found.slope[0] * HOUR == pytest.approx(0.01, rel=0.1)
    assert found.level[0] == pytest.approx(0.77, abs=0.02)


def opens(what: Callable[[float], float], within: float, lasting: float, at: float = 1.0) -> float | None:
    """After how many seconds a line is first said to get to `at` within `within`; None for never."""
    courses = Courses(within)
    courses.grow(1)
    step = min(courses.near.width / 2, 300.0)
    start = START // courses.far.width * courses.far.width
    goal = np.array([at])
    for i in range(int(lasting / step)):
        now = start + i * step
        courses.sample(now, np.array([what(i * step)]))
        courses.look(now, goal)
        course = courses.course(now, goal)
        left = (at - course.level[0]) / course.slope[0] if course.slope[0] * (at - course.level[0]) > 0 else math.inf
        if left <= within:
            return i * step
    return None


def test_a_steady_line_is_told_when_it_is_due() -> None:
    """From 0.5 to 1 in 72 hours: eight hours before are 64."""
    found = opens(lambda t: 0.5 + 0.5 * t / (72 * HOUR), 8 * HOUR, 72 * HOUR)
    assert found is not None and abs(found - 64 * HOUR) < 0.5 * HOUR


def test_a_line_that_falls_is_told_as_well() -> None:
    found = opens(lambda t: 100 - 100 * t / (72 * HOUR), 8 * HOUR, 72 * HOUR, at=0.0)
    assert found is not None and abs(found - 64 * HOUR) < 0.5 * HOUR


NOISE = np.random.default_rng(9).normal(0, 0.02, 200_000)
QUIET: list[tuple[str, Callable[[float], float], float]] = [
    ("a flat line", lambda t: 0.9, 8 * HOUR),
    ("noise near the end", lambda t: 0.9 + NOISE[int(t // 60) % 200_000], 8 * HOUR),
    ("a step", lambda t: 0.5 if t < 2 * DAY else 0.85, 8 * HOUR),
    ("teeth of an hour", lambda t: 0.6 + 0.35 * ((t / HOUR) % 1), 3 * DAY),
    ("a wave of a day, after the first", lambda t: 0.7 + 0.2 * math.sin(2 * math.pi * t / DAY), 30 * 60),
]


@pytest.mark.parametrize(("what", "within"), [row[1:] for row in QUIET], ids=[row[0] for row in QUIET])
def test_what_goes_nowhere_is_not_told(what: Callable[[float], float], within: float) -> None:
    assert opens(what, within, max(6 * within, 3 * DAY)) is None


def test_teeth_that_were_seen_to_turn_are_no_trend() -> None:
    """Up to 0.95 every day: told in the first days, when nobody knows better, and never again."""

    def teeth(t: float) -> float:
        return 0.6 + 0.35 * ((t / DAY) % 1)

    courses = Courses(8 * HOUR)
    courses.grow(1)
    goal, told = np.array([1.0]), []
    start = START // courses.far.width * courses.far.width
    for i in range(int(7 * DAY / 300)):
        now = start + i * 300
        courses.sample(now, np.array([teeth(i * 300)]))
        courses.look(now, goal)
        course = courses.course(now, goal)
        if course.slope[0] > 0 and (1 - course.level[0]) / course.slope[0] <= 8 * HOUR:
            told.append(i * 300 / DAY)
    assert all(day < 2 for day in told)


def test_a_climb_that_began_lately_is_told_in_time() -> None:
    """Two quiet days, then full within six hours."""
    found = opens(lambda t: 0.5 if t < 2 * DAY else min(1.0, 0.5 + (t - 2 * DAY) / (12 * HOUR)), 8 * HOUR, 3 * DAY)
    assert found is not None and found < 2 * DAY + 4.5 * HOUR


def test_after_somebody_made_room_what_came_before_does_not_count() -> None:
    """Cleaned up from 0.9 to 0.5 after a day, then 2 % an hour: 17 hours later there are eight left."""

    def line(t: float) -> float:
        return 0.6 + 0.3 * t / DAY if t < DAY else 0.5 + 0.02 * (t - DAY) / HOUR

    found = opens(line, 8 * HOUR, 2.5 * DAY)
    assert found is not None and abs(found - 41 * HOUR) < HOUR


def test_when_it_is_reached_has_an_earliest_and_a_latest() -> None:
    rng = np.random.default_rng(1)
    times = START + np.arange(48) * HOUR
    values = (0.4 + 0.01 * np.arange(48) + rng.normal(0, 0.01, 48))[None]
    now = float(times[-1])
    found = reached(trends(times, values, now), np.array([1.0]), now)
    assert found.earliest[0] < found.at[0] < found.latest[0]
    assert found.at[0] == pytest.approx(now + 13 * HOUR, abs=2 * HOUR)
    assert np.isnan(reached(trends(times, values, now), np.array([0.2]), now).at[0])


def test_nothing_is_trusted_further_ahead_than_it_was_seen_back() -> None:
    near = Seen(START + np.arange(12) * 60.0, (0.5 + 0.0001 * np.arange(12))[None])
    far = Seen(np.empty(0), np.empty((1, 0)))
    found = trusted(far, near, START + 660, np.array([1.0]))
    assert np.isnan(reached(found, np.array([1.0]), START + 660).at[0])


def test_a_climb_that_quickened_lately_does_not_hide_where_a_line_goes_in_the_long_run() -> None:
    """0.01 a day for 40 days, half as quick again for the last day and a half: of 18 days ahead only the long climb
    can tell."""
    now = START + 40 * DAY
    far = Seen(START + np.arange(32) * 1.25 * DAY, (0.4 + 0.0125 * np.arange(32))[None])
    near_times = now - np.arange(47, -1, -1) * 3 * HOUR
    near = (
        0.8
        + 0.01 * (near_times - now) / DAY
        + np.where(near_times > now - 1.5 * DAY, 0.005, 0.0) * ((near_times - now) / DAY + 1.5)
    )
    at = np.array([0.99])
    found = reached(trusted(far, Seen(near_times, near[None]), now, at), at, now)
    assert found.at[0] == pytest.approx(now + 19 * DAY, abs=1.5 * DAY)


def test_what_is_stored_fills_the_gaps_and_no_more() -> None:
    courses = Courses(8 * HOUR)
    courses.grow(2)
    ring = courses.far
    now = START // ring.width * ring.width
    ring.take(now, np.array([5.0, 6.0]))
    ring.take(now + 1, np.array([7.0, np.nan]))
    ring.take(now + ring.width, np.array([np.nan, np.nan]))
    slots = np.arange(ring.slot_of(now) - 3, ring.slot_of(now) + 1)
    ring.fill(np.array([1]), slots, np.array([[1.0, 2.0, 3.0, 4.0]]))
    seen = ring.seen()
    assert seen.values[1, :4].tolist() == [1.0, 2.0, 3.0, 6.0]
    assert np.isnan(seen.values[0, :3]).all() and seen.values[0, 3] == 6.0
    assert seen.times[3] == now + ring.width / 2
    ring.take(now + 200 * ring.width, np.array([7.0, 8.0]))
    ring.take(now + 201 * ring.width, np.array([7.0, 8.0]))
    assert (~np.isnan(ring.seen().values)).sum() == 4
    assert len(ring.seen().times) <= SLOTS + 1
