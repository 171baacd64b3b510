"""Runs summed up together are what each of them is alone."""

from __future__ import annotations

import numpy as np
import pytest

from balise.core.moments import NS
from balise.core.series.growth import MAX_GAP, Before, add_growth
from balise.core.series.runs import Run, Runs
from balise.core.series.steps import Steps
from balise.core.series.summary import FIELDS, Summary, summarise
from balise.core.series.wire import PointKind

HOUR = 3600 * NS


def some_run(rng: np.random.Generator, series: int) -> Run:
    """With gaps that are too long, resets, and a point before it or none."""
    n = int(rng.integers(1, 40))
    times = 10**18 + np.cumsum(rng.choice([NS, 15 * NS, 600 * NS, MAX_GAP, MAX_GAP + 1], n)) + int(rng.integers(10**9))
    values = np.round(rng.normal(50, 30, (n, series)), int(rng.integers(0, 3)))
    kinds: list[PointKind] = [("gauge", "counter", "delta")[i] for i in rng.integers(0, 3, series)]
    before = Before(times[0] - rng.choice([1, NS, MAX_GAP, MAX_GAP + 1, 10**17], series), rng.normal(50, 30, series))
    before.values[rng.random(series) < 0.3] = np.nan
    return Run(times, values, kinds, before)


def alone(run: Run, width: int) -> tuple[list[int], Summary]:
    first, last = int(run.times[0]) // width, int(run.times[-1]) // width
    steps = Steps(first * width, width, last - first + 1)
    summary = summarise(run.times, run.values.T, steps)
    add_growth(summary, run.times, run.values.T, steps, run.kinds, run.before)
    some = np.flatnonzero((summary.count > 0).any(axis=0))
    return (first + some).tolist(), summary.steps(some)


@pytest.mark.parametrize("width", [300 * NS, HOUR])
def test_many_runs_together_are_summed_up_as_each_alone(width: int) -> None:
    rng = np.random.default_rng(18)
    for _ in range(60):
        runs = [some_run(rng, 7) for _ in range(int(rng.integers(1, 6)))]
        together = Runs(runs)
        assert together.are_plain
        for run, (numbers, summary) in zip(runs, together.sums(width), strict=True):
            expected, whole = alone(run, width)
            assert numbers.tolist() == expected
            for name in FIELDS:
                np.testing.assert_allclose(getattr(summary, name), getattr(whole, name), rtol=1e-12, err_msg=name)


def test_a_counter_by_hand() -> None:
    """10 before, then 14, a reset to 3, and 5: it grew by 4, 3 and 2 in 15 s each."""
    at = 10**18 // HOUR * HOUR + 15 * NS * np.arange(1, 4)
    run = Run(at, np.array([[14.0], [3.0], [5.0]]), ["counter"], Before(at[:1] - 15 * NS, np.array([10.0])))
    [(numbers, summary)] = list(Runs([run]).sums(HOUR))
    assert numbers.tolist() == [10**18 // HOUR]
    assert [float(getattr(summary, name)[0, 0]) for name in FIELDS] == [3.0, 14.0, 22.0, 3.0, 5.0, 9.0, 45.0]


def test_what_grew_beyond_all_numbers_is_left_to_be_looked_at_alone() -> None:
    at = np.array([10**18, 10**18 + NS])
    assert not Runs([Run(at, np.array([[-1.7e308], [1.7e308]]), ["gauge"], Before.nothing(1))]).are_plain
