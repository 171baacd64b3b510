"""Turns of a rota, worked out by hand for Oslo, over both changes of the clock in 2026."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

import pytest
from pydantic import ValidationError

from balise.api.rotas import RotaBody
from balise.core.callouts.rota import Rota

WEEKS: dict[str, Any] = {
    "people": ["anna", "berit", "carl"],
    "turn": "1w",
    "begins": "2026-03-02",
    "at": "09:00",
    "zone": "Europe/Oslo",
}


def at(text: str) -> float:
    return datetime.fromisoformat(text).replace(tzinfo=UTC).timestamp()


def on_duty(body: dict[str, Any], moment: str) -> tuple[str, float] | None:
    duty = Rota(RotaBody.model_validate(body)).on_duty(at(moment))
    return None if duty is None else (duty.person, duty.end)


@pytest.mark.parametrize(
    ("moment", "person", "until"),
    [
        ("2026-03-02T08:00", "anna", "2026-03-09T08:00"),
        ("2026-03-09T07:59:59", "anna", "2026-03-09T08:00"),
        ("2026-03-09T08:00", "berit", "2026-03-16T08:00"),
        # Summer time begins in anna's second week: 09:00 is 07:00 by UTC from then on.
        ("2026-03-25T12:00", "anna", "2026-03-30T07:00"),
        ("2026-03-30T07:00", "berit", "2026-04-06T07:00"),
        # It ends in week 33, which is anna's; the next begins at 08:00 by UTC again.
        ("2026-10-25T12:00", "anna", "2026-10-26T08:00"),
        ("2026-10-26T07:30", "anna", "2026-10-26T08:00"),
    ],
)
def test_a_turn_changes_at_its_local_time(moment: str, person: str, until: str) -> None:
    assert on_duty(WEEKS, moment) == (person, at(until))


def test_before_the_first_turn_nobody_is_on_duty() -> None:
    assert on_duty(WEEKS, "2026-03-02T07:59") is None


def test_days_of_twelve_hours_go_by_the_wall() -> None:
    """From 08:00 to 20:00 and back; in the night of the change a turn has eleven hours, in autumn thirteen."""
    body = {**WEEKS, "people": ["anna", "berit"], "turn": "12h", "at": "08:00"}
    assert on_duty(body, "2026-03-28T19:00") == ("berit", at("2026-03-29T06:00"))
    assert on_duty(body, "2026-03-29T06:00") == ("anna", at("2026-03-29T18:00"))
    assert on_duty(body, "2026-10-24T18:00") == ("berit", at("2026-10-25T07:00"))


def test_somebody_may_be_there_instead() -> None:
    """Berit for anna from Friday to Sunday; and carl on Saturday evening, who was added later."""
    body = {
        **WEEKS,
        "overrides": [
            {"person": "berit", "from": "2026-03-06T17:00:00Z", "to": "2026-03-08T17:00:00Z"},
            {"person": "carl", "from": "2026-03-07T18:00:00Z", "to": "2026-03-07T22:00:00Z"},
        ],
    }
    stretches = Rota(RotaBody.model_validate(body)).stretches(at("2026-03-06T00:00"), at("2026-03-10T00:00"))
    assert [(d.person, d.start, d.instead_of) for d in stretches] == [
        ("anna", at("2026-03-06T00:00"), None),
        ("berit", at("2026-03-06T17:00"), "anna"),
        ("carl", at("2026-03-07T18:00"), "anna"),
        ("berit", at("2026-03-07T22:00"), "anna"),
        ("anna", at("2026-03-08T17:00"), None),
        ("berit", at("2026-03-09T08:00"), None),
    ]
    assert on_duty(body, "2026-03-06T12:00") == ("anna", at("2026-03-06T17:00"))
    assert on_duty(body, "2026-03-07T19:00") == ("carl", at("2026-03-07T22:00"))


def test_who_has_two_turns_on_end_is_on_duty_through_both() -> None:
    """Berit takes anna's last days, and it is her turn then."""
    over = [{"person": "berit", "from": "2026-03-07T00:00:00Z", "to": "2026-03-09T08:00:00Z"}]
    assert on_duty({**WEEKS, "overrides": over}, "2026-03-08T00:00") == ("berit", at("2026-03-16T08:00"))


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"people": []}, "at least 1"),
        ({"turn": "90m"}, "whole hours"),
        ({"turn": "20w"}, "up to 13w|to 13w"),
        ({"overrides": [{"person": "anna", "from": "-1h", "to": "+1h"}]}, "are times such as"),
        (
            {"overrides": [{"person": "anna", "from": "2026-03-08T00:00:00Z", "to": "2026-03-07T00:00:00Z"}]},
            "after from",
        ),
    ],
)
def test_what_makes_no_sense_is_refused(change: dict[str, Any], said: str) -> None:
    with pytest.raises(ValidationError, match=said):
        RotaBody.model_validate({**WEEKS, **change})
