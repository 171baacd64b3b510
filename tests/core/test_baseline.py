"""What is usual at an hour of the week, beside a plain computation and on series that were made."""

from __future__ import annotations

import itertools
import math
import statistics
from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import numpy as np
import pytest

from balise.core.rules.baseline import FADING, NEIGHBOURS, WEEKS, at_moment, hours_before, usual_of
from balise.core.rules.look import Usual

HOUR = 3600
NONE = math.nan


def unix(text: str) -> int:
    return int(datetime.fromisoformat(text).timestamp())


def plain_median(values: list[float], weights: list[float]) -> float:
    """Weights in a row, each value in the middle of its own; what is at the middle of all, interpolated."""
    known = sorted((v, w) for v, w in zip(values, weights, strict=True) if not math.isnan(v))
    total = sum(w for _, w in known)
    places, sum_ = [], 0.0
    for value, weight in known:
        places.append(((sum_ + weight / 2) / total, value))
        sum_ += weight
    if places[0][0] >= 0.5:
        return places[0][1]
    for (p, a), (q, b) in itertools.pairwise(places):
        if p <= 0.5 <= q:
            return a + (b - a) * (0.5 - p) / (q - p)
    return places[-1][1]


def plain_usual(weeks: list[list[float]], within: list[list[float]]) -> tuple[list[float], float]:
    """Middles of all hours of the neighbourhood, and the spread, in lists; NaN middles where a week alone is known."""
    middles, away, weights = [], [], []
    for hour in range(2 * NEIGHBOURS + 1):
        column = [week[hour] for week in weeks]
        known = [v for v in column if not math.isnan(v)]
        middle = plain_median(column, [FADING**i for i in range(WEEKS)]) if known else NONE
        for i, v in enumerate(column):
            if len(known) > 1 and not math.isnan(v):
                away.append(abs(v - middle) * math.sqrt(len(known) / (len(known) - 1)))
                weights.append(FADING**i)
            elif len(known) == 1 and not math.isnan(v):
                away.append(0.0)
                weights.append(FADING**i)
        middles.append(middle if len(known) >= 2 else NONE)
    inside = plain_median([w for week in within for w in week], [FADING**i for i, w in enumerate(within) for _ in w])
    return middles, math.hypot(1.4826 * plain_median(away, weights), inside / 6)


def test_it_is_what_a_plain_computation_says() -> None:
    rng = np.random.default_rng(3)
    for missing in (0.0, 0.3, 0.6):
        values = rng.normal(50, 9, (20, WEEKS, 2 * NEIGHBOURS + 1))
        values[rng.random(values.shape) < missing] = np.nan
        within = rng.uniform(1, 4, values.shape)
        found = usual_of(values, within)
        for group in range(20):
            middles, spread = plain_usual(values[group].tolist(), within[group].tolist())
            np.testing.assert_allclose(found.middle[group], middles, rtol=1e-9)
            known = ~np.isnan(found.middle[group])
            np.testing.assert_allclose(found.spread[group][known], spread, rtol=1e-9)


def test_a_week_alone_is_not_enough() -> None:
    values = np.full((1, WEEKS, 2 * NEIGHBOURS + 1), np.nan)
    values[0, 0] = 7.0
    assert np.isnan(usual_of(values, values).middle).all()
    values[0, 1] = 9.0
    # The last week weighs 1, the one before 0.8: the middle of 7 and 9 lies a little nearer to 7.
    assert usual_of(values, values).middle[0, NEIGHBOURS] == pytest.approx(7 + 2 * (0.9 - 0.5) / 0.9, abs=1e-9)


def test_one_bad_week_is_no_usual_week() -> None:
    rng = np.random.default_rng(5)
    values = 40 + rng.normal(0, 1, (1, WEEKS, 2 * NEIGHBOURS + 1))
    values[0, 2] = 4000.0
    found = usual_of(values, np.zeros_like(values))
    assert found.middle[0, NEIGHBOURS] == pytest.approx(40, abs=2)
    assert found.spread[0, NEIGHBOURS] < 3


def test_mondays_are_learnt_of_mondays() -> None:
    """A series with a weekly period of 168 known values comes back as those."""
    rng = np.random.default_rng(8)
    shape = rng.uniform(0, 100, 168)
    now = unix("2026-11-23T09:00:00+00:00")
    wanted = hours_before(now, UTC)
    values = np.array([[[shape[h // HOUR % 168] + rng.normal(0, 0.1) for h in week] for week in wanted]])
    found = usual_of(values, np.zeros_like(values))
    truth = [shape[(now // HOUR + shift) % 168] for shift in range(-NEIGHBOURS, NEIGHBOURS + 1)]
    np.testing.assert_allclose(found.middle[0], truth, atol=0.2)


def test_the_clock_on_the_wall_counts_through_summer_time() -> None:
    """Summer time ended in Copenhagen on 25 October 2026: nine o'clock is nine o'clock before and after."""
    zone = ZoneInfo("Europe/Copenhagen")
    weeks = hours_before(unix("2026-10-26T09:00:00+01:00"), zone)
    assert weeks[0][NEIGHBOURS] == unix("2026-10-19T09:00:00+02:00")
    assert weeks[1][NEIGHBOURS] == unix("2026-10-12T09:00:00+02:00")
    spring = hours_before(unix("2026-03-30T09:00:00+02:00"), zone)
    assert spring[0][NEIGHBOURS] == unix("2026-03-23T09:00:00+01:00")
    assert len(weeks) == WEEKS and all(len(week) == 2 * NEIGHBOURS + 1 for week in weeks)


def test_hours_are_joined_from_middle_to_middle() -> None:
    usual = Usual(np.array([[0.0, 10.0, 20.0, 40.0, 80.0]]), np.array([[1.0, 1.0, 2.0, 3.0, 3.0]]))
    told = [at_moment(usual, share).middle[0] for share in (0.0, 0.5, 1.0)]
    assert told == [15.0, 20.0, 30.0]
    assert at_moment(usual, 1.0).spread[0] == 2.5
    edge = Usual(np.array([[np.nan, np.nan, 20.0, 40.0, np.nan]]), usual.spread)
    assert at_moment(edge, 0.1).middle[0] == 20.0


def test_its_middle_is_the_median_when_weeks_weigh_the_same() -> None:
    from balise.core.rules.baseline import weighted_median

    rng = np.random.default_rng(2)
    for n in (1, 2, 5, 8):
        values = rng.normal(0, 1, (50, n, 1))
        found = weighted_median(values, np.ones((n, 1)))[:, 0]
        np.testing.assert_allclose(found, [statistics.median(v) for v in values[:, :, 0].tolist()], atol=1e-12)
