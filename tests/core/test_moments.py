"""Seconds and nanoseconds."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from balise.core.moments import nanos, now_nanos, seconds_of


@given(st.floats(-1e9, 4e9))
def test_seconds_are_nanoseconds_and_back(seconds: float) -> None:
    assert abs(seconds_of(nanos(seconds)) - seconds) < 1e-6
    assert nanos(1.5) == 1_500_000_000 and seconds_of(1_500_000_000) == 1.5
    assert 1.7e9 < seconds_of(now_nanos()) < 1e10
