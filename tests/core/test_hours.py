"""Hours of the week, worked out by hand for Oslo: +1 in winter, +2 from 29 March 2026, 02:00, to 25 October, 03:00."""

from __future__ import annotations

from datetime import UTC, datetime

import pytest
from pydantic import ValidationError

from balise.api.hours import Hours
from balise.core.callouts.hours import holds, next_change

NIGHTS = {"days": ["mon", "tue", "wed", "thu", "fri"], "from": "18:00", "to": "08:00", "zone": "Europe/Oslo"}
OFFICE = {"days": ["mon", "tue", "wed", "thu", "fri"], "from": "08:00", "to": "16:00", "zone": "Europe/Oslo"}
SMALL = {"from": "02:15", "to": "02:45", "zone": "Europe/Oslo"}
WHOLE = {"days": ["sun"], "from": "00:00", "to": "00:00", "zone": "Europe/Oslo"}
ALWAYS = {"from": "00:00", "to": "00:00", "zone": "UTC"}


def at(text: str) -> float:
    return datetime.fromisoformat(text).replace(tzinfo=UTC).timestamp()


@pytest.mark.parametrize(
    ("said", "moment", "within", "changes"),
    [
        # Monday evening at 18:00 is 17:00 by UTC in winter, and 16:00 in summer.
        (NIGHTS, "2026-03-02T16:59:59", False, "2026-03-02T17:00"),
        (NIGHTS, "2026-03-02T17:00", True, "2026-03-03T07:00"),
        (NIGHTS, "2026-07-06T16:00", True, "2026-07-07T06:00"),
        # Friday's night ends on Saturday morning; Saturday and Sunday have none.
        (NIGHTS, "2026-03-07T06:59", True, "2026-03-07T07:00"),
        (NIGHTS, "2026-03-07T20:00", False, "2026-03-09T17:00"),
        # From Friday in winter to Monday in summer.
        (NIGHTS, "2026-03-28T07:00", False, "2026-03-30T16:00"),
        (OFFICE, "2026-03-27T15:00", False, "2026-03-30T06:00"),
        (OFFICE, "2026-10-23T14:00", False, "2026-10-26T07:00"),
        # That night there is no 02:15; and in autumn there are two.
        (SMALL, "2026-03-29T01:20", False, "2026-03-30T00:15"),
        (SMALL, "2026-10-25T00:20", True, "2026-10-25T00:45"),
        (SMALL, "2026-10-25T00:50", False, "2026-10-25T01:15"),
        (SMALL, "2026-10-25T01:20", True, "2026-10-25T01:45"),
        # A Sunday of 23 hours, and one of 25.
        (WHOLE, "2026-03-28T23:00", True, "2026-03-29T22:00"),
        (WHOLE, "2026-10-24T22:00", True, "2026-10-25T23:00"),
        (ALWAYS, "2026-03-02T00:00", True, None),
    ],
)
def test_hours_hold_by_the_clock_on_the_wall(
    said: dict[str, object], moment: str, within: bool, changes: str | None
) -> None:
    hours = Hours.model_validate(said)
    assert holds(hours, at(moment)) is within
    assert next_change(hours, at(moment)) == (None if changes is None else at(changes))


@pytest.mark.parametrize("said", [NIGHTS, OFFICE, SMALL, WHOLE])
def test_what_changes_next_is_what_looking_at_every_minute_finds(said: dict[str, object]) -> None:
    hours = Hours.model_validate(said)
    for begin in ("2026-03-27T00:00", "2026-10-23T00:00"):
        start = at(begin)
        minutes = [holds(hours, start + 60 * m) for m in range(4 * 1440)]
        for m in range(0, 3 * 1440, 37):
            found = next((n for n in range(m + 1, len(minutes)) if minutes[n] != minutes[m]), None)
            if found is not None:
                assert next_change(hours, start + 60 * m) == start + 60 * found


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"from": "8"}, "no time of a day"),
        ({"to": "24:00"}, "no time of a day"),
        ({"zone": "Europe/Nowhere"}, "no time zone"),
        ({"zone": "../../etc/passwd"}, "no time zone"),
        ({"days": []}, "at least 1"),
    ],
)
def test_what_makes_no_sense_is_refused(change: dict[str, object], said: str) -> None:
    with pytest.raises(ValidationError, match=said):
        Hours.model_validate({**NIGHTS, **change})
