"""Limits that are suggested, on series whose breaches are known."""

from __future__ import annotations

import numpy as np
import pytest

from balise.core.rules.suggesting import openings, rounded_up, suggested

TIMES = np.arange(0, 14 * 1440.0) * 60


def test_peaks_that_stand_out_are_told_from_what_is_usual() -> None:
    """Noise below 1, and three nights at 15: a limit between them, well away from both."""
    rng = np.random.default_rng(1)
    values = rng.uniform(0, 1, (1, len(TIMES)))
    for night in (2, 6, 9):
        values[0, night * 1440 : night * 1440 + 30] = 15 + rng.uniform(0, 1, 30)
    found = suggested(TIMES, values, 0.0, 4, 1)
    assert found is not None
    assert 3 < found.warning < 13 and found.opened == 3 and found.separates > 1
    assert found.critical >= found.warning


def test_noise_has_no_limit_that_stands_out() -> None:
    values = np.random.default_rng(2).normal(0, 1, (3, 5000))
    found = suggested(np.arange(5000) * 60.0, values, 0.0, 4, 1)
    assert found is not None and found.opened <= 4 and found.separates < 0.3


def test_breaches_that_do_not_last_are_none() -> None:
    values = np.array([[0, 9, 0, 9, 9, 9, 0, 0, 9, 9]], float)
    times = np.arange(10) * 60.0
    assert [openings(times, values, 5, hold) for hold in (0, 60, 120, 300)] == [3, 2, 1, 0]
    assert suggested(times, np.full((1, 10), np.nan), 0.0, 1, 1) is None


@pytest.mark.parametrize(
    ("value", "rounded"), [(0.9034, 0.91), (14.2, 15.0), (1.0, 1.0), (-3.47, -3.4), (0.0, 0.0), (1234567, 1300000)]
)
def test_limits_are_numbers_that_people_would_write(value: float, rounded: float) -> None:
    assert rounded_up(value) == pytest.approx(rounded)
