"""Times of maintenance windows, worked out by hand for Oslo over both changes of the clock in 2026."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

import pytest
from pydantic import ValidationError

from balise.api.maintenance import MaintenanceBody
from balise.core.maintenance import Times

OSLO = {"about": "x", "hosts": ["gate-s3"], "zone": "Europe/Oslo"}


def at(text: str) -> float:
    return datetime.fromisoformat(text).replace(tzinfo=UTC).timestamp()


def times(**said: Any) -> Times:
    return Times(MaintenanceBody.model_validate({**OSLO, **said}), at("2026-03-01T00:00"))


def starts(of: Times, start: str, end: str) -> list[str]:
    found = of.between(at(start), at(end))
    return [datetime.fromtimestamp(one.start, UTC).strftime("%m-%dT%H:%M") for one in found]


@pytest.mark.parametrize(
    ("said", "wanted"),
    [
        # Saturdays at 22:00: 21:00 by UTC, and 20:00 in summer.
        (
            {"from": "2026-03-14T22:00:00+01:00", "for": "4h", "repeat": "FREQ=WEEKLY;BYDAY=SA"},
            ["03-14T21:00", "03-21T21:00", "03-28T21:00", "04-04T20:00"],
        ),
        # At 02:30 each day; on the 29th there is no such time, and it is as long after the change.
        (
            {"from": "2026-03-27T02:30:00+01:00", "for": "30m", "repeat": "FREQ=DAILY;COUNT=4"},
            ["03-27T01:30", "03-28T01:30", "03-29T01:30", "03-30T00:30"],
        ),
        # The second Sunday of a month, and the last day of one.
        (
            {"from": "2026-02-08T06:00:00+01:00", "for": "1h", "repeat": "FREQ=MONTHLY;BYDAY=2SU"},
            ["03-08T05:00"],
        ),
        (
            {"from": "2026-02-28T06:00:00+01:00", "for": "1h", "repeat": "FREQ=MONTHLY;BYMONTHDAY=-1"},
            ["03-31T04:00"],
        ),
        # An end in UTC: the time of 28 March at 21:00 is in, as it says so.
        (
            {
                "from": "2026-03-14T22:00:00+01:00",
                "for": "4h",
                "repeat": "FREQ=WEEKLY;BYDAY=SA;UNTIL=20260328T210000Z",
            },
            ["03-14T21:00", "03-21T21:00", "03-28T21:00"],
        ),
        ({"from": "2026-03-14T22:00:00+01:00", "to": "2026-03-15T02:00:00+01:00"}, ["03-14T21:00"]),
    ],
)
def test_windows_begin_at_their_local_time(said: dict[str, Any], wanted: list[str]) -> None:
    assert starts(times(**said), "2026-03-02T00:00", "2026-04-06T00:00") == wanted


def test_which_time_goes_on_and_which_comes_next() -> None:
    of = times(**{"from": "2026-03-14T22:00:00+01:00", "for": "4h", "repeat": "FREQ=WEEKLY;BYDAY=SA"})
    assert of.at(at("2026-03-14T20:59:59")) is None
    going_on = of.at(at("2026-03-15T00:59"))
    assert going_on is not None and (going_on.start, going_on.end) == (at("2026-03-14T21:00"), at("2026-03-15T01:00"))
    assert of.at(at("2026-03-15T01:00")) is None
    coming = of.next_after(at("2026-03-28T21:00"))
    assert coming is not None and coming.start == at("2026-04-04T20:00")


def test_a_window_that_is_asked_again_and_again_says_what_one_asked_for_the_first_time_says() -> None:
    """Overlapping times over the change of the clock, asked every ten minutes, then backwards."""
    said = {"from": "2026-03-26T02:30:00+01:00", "for": "26h", "repeat": "FREQ=DAILY;COUNT=4"}
    of = times(**said)
    moments = [at("2026-03-26T00:00") + 600.0 * step for step in range(6 * 24 * 6)]
    found = [of.at(moment) for moment in [*moments, *reversed(moments)]]
    assert found == [times(**said).at(moment) for moment in [*moments, *reversed(moments)]]
    assert len(set(found)) == 5


def test_the_hour_that_comes_twice_has_one_window() -> None:
    """02:30 on 25 October is 00:30 and 01:30 by UTC: it begins at the first, and lasts its two hours."""
    of = times(**{"from": "2026-10-24T02:30:00+02:00", "for": "2h", "repeat": "FREQ=DAILY"})
    assert starts(of, "2026-10-24T22:00", "2026-10-25T22:00") == ["10-25T00:30"]
    assert of.at(at("2026-10-25T02:29")) is not None and of.at(at("2026-10-25T02:30")) is None


@pytest.mark.parametrize(
    ("said", "why"),
    [
        ({"for": "1h", "to": "+1h"}, "say one of them"),
        ({"to": "-1h"}, "is after from"),
        ({"for": "32d"}, "at most 31 days"),
        ({"for": "1h", "hosts": []}, "say what is worked on"),
        ({"for": "1h", "repeat": "FREQ=SECONDLY"}, "with FREQ of DAILY"),
        ({"for": "1h", "repeat": "FREQ=DAILY;BYMONTH=2"}, "cannot be said with FREQ=DAILY"),
        ({"for": "1h", "repeat": "FREQ=MONTHLY;BYDAY=5MO"}, "is not understood"),
        ({"for": "1h", "repeat": "FREQ=MONTHLY;BYDAY=1MO;BYMONTHDAY=9"}, "on no day at all"),
        ({"for": "1h", "repeat": "FREQ=WEEKLY;FREQ=DAILY"}, "a rule such as"),
    ],
)
def test_what_makes_no_sense_is_refused(said: dict[str, Any], why: str) -> None:
    with pytest.raises(ValidationError, match=why):
        MaintenanceBody.model_validate({**OSLO, **said})


def test_a_window_that_began_long_ago_goes_on() -> None:
    """At 01:00 in Oslo since 1990."""
    of = times(**{"from": "1990-01-01T00:00:00Z", "for": "1h", "repeat": "FREQ=DAILY"})
    coming = of.next_after(at("2026-03-02T00:00"))
    assert coming is not None and coming.start == at("2026-03-03T00:00")
