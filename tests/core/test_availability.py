"""When things were there: worked out by hand, and held to a look at every second."""

from __future__ import annotations

from datetime import datetime
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from balise.api.availability import Presence, TargetPer
from balise.core.availability import Away, Change, down_within, left_of, period_of, summed, with_gaps

PRESENCES: list[Presence] = ["up", "down", "unknown", "maintenance"]
DAY = 86_400.0


def test_a_day_by_hand() -> None:
    """Up, an outage of 30 minutes, an hour of maintenance, and one outage that goes on."""
    changes: list[Change] = [
        (0.0, "up"), (3600.0, "down"), (5400.0, "up"), (36_000.0, "maintenance"), (39_600.0, "up"), (82_800.0, "down"),
    ]  # fmt: skip
    found = summed(changes, 0.0, DAY, now=2 * DAY)
    assert found.seconds == {"up": 77_400.0, "down": 5400.0, "unknown": 0.0, "maintenance": 3600.0}
    assert found.outages == [Away(3600.0, 5400.0, 1800.0), Away(82_800.0, None, 3600.0)]
    assert (found.between, found.repair) == (38_700.0, 1800.0)


def test_what_is_not_known_neither_ends_an_outage_nor_lengthens_it() -> None:
    changes: list[Change] = [(0.0, "down"), (100.0, "unknown"), (200.0, "down"), (250.0, "up")]
    assert summed(changes, 0.0, 300.0, now=300.0).outages == [Away(0.0, 250.0, 150.0)]


def test_nothing_is_known_before_the_first_change_and_after_now() -> None:
    found = summed([(100.0, "up")], 0.0, 400.0, now=300.0)
    assert found.seconds == {"up": 200.0, "down": 0.0, "unknown": 200.0, "maintenance": 0.0}


def test_while_the_console_was_away_nothing_is_known() -> None:
    changes: list[Change] = [(0.0, "up"), (120.0, "down"), (900.0, "up")]
    assert with_gaps(changes, [(100.0, 200.0)]) == [(0.0, "up"), (100.0, "unknown"), (200.0, "down"), (900.0, "up")]


changed = st.lists(st.tuples(st.integers(0, 60), st.sampled_from(PRESENCES)), max_size=12)


@given(changed, st.integers(0, 60), st.integers(1, 40), st.integers(0, 80))
def test_it_is_as_a_look_at_every_second_says(
    changes: list[tuple[int, Presence]], start: int, length: int, now: int
) -> None:
    ordered: list[Change] = sorted(((float(at), p) for at, p in changes), key=lambda c: c[0])
    counts = dict.fromkeys(PRESENCES, 0.0)
    for second in range(start, start + length):
        held = [presence for at, presence in ordered if at <= second]
        counts[held[-1] if held and second < now else "unknown"] += 1
    found = summed(ordered, float(start), float(start + length), now=float(now))
    assert found.seconds == counts
    assert sum(away.seconds for away in found.outages) == counts["down"]
    assert down_within(ordered, float(start), float(start + length), float(now)) == (counts["down"], len(found.outages))


@pytest.mark.parametrize(
    ("per", "first", "last"),
    [
        ("week", "2026-03-23", "2026-03-30"),
        ("month", "2026-03-01", "2026-04-01"),
        ("quarter", "2026-01-01", "2026-04-01"),
        ("year", "2026-01-01", "2027-01-01"),
    ],
)
def test_periods_are_by_the_clock_on_the_wall(per: TargetPer, first: str, last: str) -> None:
    """29 March 2026, when summer time begins in Oslo: that week has 167 hours."""
    oslo = ZoneInfo("Europe/Oslo")
    moments = [
        datetime.fromisoformat(text).replace(tzinfo=oslo).timestamp() for text in ("2026-03-29T12:00", first, last)
    ]
    assert period_of(per, moments[0], oslo) == (moments[1], moments[2])


def test_what_is_left_of_three_nines() -> None:
    """Of 30 days 99.9 % leave 43.2 minutes; 16.2 of them gone leave 27."""
    left, seconds = left_of(0.999, 16.2 * 60, 30 * DAY)
    assert (left, seconds) == (pytest.approx(27 / 43.2), pytest.approx(27 * 60))
    assert left_of(0.999, 4000.0, 30 * DAY)[0] < 0
