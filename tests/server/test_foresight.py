"""What is usual, and where things go: held to computations of their own over the points that were stored."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np
import pytest
from numpy.typing import NDArray

from balise.api.foresight import BaselineQuery, Forecast, ForecastQuery
from balise.api.spans import rfc3339
from balise.server.parts import Parts
from balise.server.rules import foresight
from laying import lay

F64 = NDArray[np.float64]
HOUR, DAY, WEEK = 3600.0, 86_400.0, 7 * 86_400.0


def weighted_median(values: list[float], weights: list[float]) -> float:
    """Point by point: the value at the half of all weight, each standing in the middle of its own."""
    pairs = sorted(zip(values, weights, strict=True))
    total, until, places = sum(weights), 0.0, []
    for _, weight in pairs:
        places.append((until + weight / 2) / total)
        until += weight
    return float(np.interp(0.5, places, [value for value, _ in pairs]))


def test_the_baseline_is_what_a_plain_computation_over_the_points_says(console: Parts) -> None:
    """Six weeks by chance, with a gap of a day and a week that was another: hour by hour, from the raw points."""
    rng, now = np.random.default_rng(1), time.time() // HOUR * HOUR
    times = np.arange(now - 6 * WEEK - DAY, now, 300.0)
    values = 5 + np.sin(2 * np.pi * times / DAY) + rng.normal(0, 0.2, len(times))
    values[(times > now - 3 * WEEK) & (times < now - 2 * WEEK)] += 3
    keep = (times < now - 9 * DAY) | (times >= now - 8 * DAY)
    lay(console, "a", "tide", times[keep], values[keep])
    query = BaselineQuery.model_validate({"metric": "tide", "from": rfc3339(now - 12 * HOUR), "to": rfc3339(now)})
    found = console.foresight.baseline(query)
    (band,) = found.series
    assert found.enough and band.enough and len(found.times) == 12

    def mean(hour: float) -> float | None:
        inside = keep & (times >= hour) & (times < hour + HOUR)
        return float(values[inside].mean()) if inside.any() else None

    for place, hour in enumerate(found.times):
        weeks = [(mean(hour - week * WEEK), 0.8 ** (week - 1)) for week in range(1, 9)]
        known = [(value, weight) for value, weight in weeks if value is not None]
        middle = weighted_median([value for value, _ in known], [weight for _, weight in known])
        assert band.middle[place] == pytest.approx(middle, abs=1e-6)
        low, high = band.low[place], band.high[place]
        assert low is not None and high is not None and high - middle == pytest.approx(middle - low, abs=1e-6)


def test_a_band_is_as_wide_as_what_is_measured_varies(console: Parts) -> None:
    """Eight weeks of hours that differ by a normal spread of 0.5: three deviations are 1.5, give or take a third."""
    rng, now = np.random.default_rng(2), time.time() // HOUR * HOUR
    hours = np.arange(now - 8 * WEEK - DAY, now, HOUR)
    times = (hours[:, None] + np.arange(12) * 300.0).ravel()
    lay(console, "a", "tide", times, np.repeat(7 + rng.normal(0, 0.5, len(hours)), 12))
    query = {"metric": "tide", "from": rfc3339(now - DAY), "to": rfc3339(now), "deviations": 3}
    (band,) = console.foresight.baseline(BaselineQuery.model_validate(query)).series
    widths = [
        (high - low) / 2 for low, high in zip(band.low, band.high, strict=True) if low is not None and high is not None
    ]
    assert len(widths) == 24 and np.median(widths) == pytest.approx(1.5, rel=0.33)


def forecast(console: Parts, values: F64, times: F64, horizon: str) -> Forecast:
    lay(console, "a", "fill", times, values)
    query = {"metric": "fill", "at": 1.0, "horizon": horizon}
    return console.foresight.forecast(ForecastQuery.model_validate(query)).series[0]


LINES: dict[str, tuple[float, Callable[[F64, F64, np.random.Generator], F64]]] = {
    "a line": (0.02, lambda t, line, rng: line),
    "with outliers": (0.02, lambda t, line, rng: line - np.where(rng.random(len(t)) < 0.01, 0.3, 0.0)),
    "with a wave of a day": (0.02, lambda t, line, rng: line + 0.01 * np.sin(2 * np.pi * t)),
    "with noise": (0.02, lambda t, line, rng: line + rng.normal(0, 0.01, len(t))),
    "after a step down": (0.03, lambda t, line, rng: np.where(t < 3, 0.95, line)),
}


@pytest.mark.parametrize("name", LINES)
def test_a_forecast_is_that_of_least_squares_over_what_is_no_outlier(console: Parts, name: str) -> None:
    """Fourteen days at 2 or 3 % a day from a half on."""
    rng, now = np.random.default_rng(3), float(int(time.time()) // 300 * 300)
    times = np.arange(now - 14 * DAY, now, 300.0)
    days = (times - times[0]) / DAY
    climb, made = LINES[name]
    line = 0.5 + climb * days
    values = made(days, line, rng)
    good = np.abs(values - line) < 0.1
    slope, level = np.polyfit(days[good], values[good], 1)
    found = forecast(console, values, times, "20d")
    assert found.reaches_at is not None and found.earliest is not None and found.latest is not None
    assert found.slope_per_day == pytest.approx(slope, rel=0.05)
    assert (found.reaches_at - times[0]) / DAY == pytest.approx((1 - level) / slope, abs=0.7)
    assert found.earliest <= found.reaches_at <= found.latest


def test_a_saw_tooth_that_is_emptied_reaches_nothing(console: Parts) -> None:
    now = float(int(time.time()) // 300 * 300)
    times = np.arange(now - 14 * DAY, now, 300.0)
    teeth = 0.4 + 0.5 * ((times - times[0]) % (3 * DAY)) / (3 * DAY)
    found = forecast(console, teeth, times, "5d")
    assert found.reaches_at is None


def test_a_forecast_is_worked_out_once_for_all_who_ask_within_a_minute(
    console: Parts, monkeypatch: pytest.MonkeyPatch
) -> None:
    now = float(int(time.time()) // 300 * 300)
    times = np.arange(now - 14 * DAY, now, 300.0)
    first = forecast(console, 0.5 + 0.02 * (times - times[0]) / DAY, times, "20d")
    asked: list[str] = []
    made = console.foresight._made
    monkeypatch.setattr(console.foresight, "_made", lambda *given: (asked.append(given[0]), made(*given))[1])  # type: ignore[func-returns-value]

    def again(horizon: str) -> Forecast:
        query = {"metric": "fill", "at": 1.0, "horizon": horizon}
        return console.foresight.forecast(ForecastQuery.model_validate(query)).series[0]

    assert again("20d") == first and asked == []
    again("19d")
    assert asked == ["fill"]
    clock = time.time
    monkeypatch.setattr(foresight.time, "time", lambda: clock() + 61.0)
    assert again("20d").slope_per_day == pytest.approx(first.slope_per_day, rel=1e-3)
    assert asked == ["fill", "fill"]
