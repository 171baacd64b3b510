"""Applications: where parts stand, and how states roll up along what they need."""

from __future__ import annotations

import pytest
from pydantic import ValidationError

from balise.api.applications import ApplicationBody, Need
from balise.core.applications import ranks, rolled


def need(from_: str, *to: str, at_least: int | None = None) -> Need:
    return Need(from_=from_, to=list(to), at_least=at_least)


BOOKING = [need("web", "app-1", "app-2", at_least=1), need("app-1", "db", "cache"), need("app-2", "db", "cache")]
PARTS = ["web", "app-1", "app-2", "db", "cache"]


def test_parts_stand_from_the_users_side_to_the_storage_side() -> None:
    assert ranks(PARTS, BOOKING) == {"web": 0, "app-1": 1, "app-2": 1, "db": 2, "cache": 2}
    assert ranks(["a", "b", "c", "d"], [need("a", "b"), need("b", "c"), need("a", "c"), need("c", "a")])["c"] == 2
    assert ranks([], []) == {}


def test_a_state_rolls_up_and_names_its_cause() -> None:
    well = dict.fromkeys(PARTS, "ok")
    found = rolled(well | {"db": "critical"}, BOOKING)
    assert found["db"] == ("critical", []) and found["cache"] == ("ok", [])
    assert found["app-1"] == ("critical", ["db"]) and found["web"] == ("critical", ["app-1", "app-2"])


def test_one_of_two_lost_is_a_warning_as_long_as_enough_are_left() -> None:
    well = dict.fromkeys(PARTS, "ok")
    assert rolled(well | {"app-1": "critical"}, BOOKING)["web"] == ("warning", ["app-1"])
    assert rolled(well | {"app-1": "silent"}, BOOKING)["web"] == ("warning", ["app-1"])
    assert rolled(well | {"app-1": "silent", "app-2": "silent"}, BOOKING)["web"] == ("silent", ["app-1", "app-2"])
    assert rolled(well | {"cache": "warning"}, BOOKING)["web"] == ("warning", ["app-1", "app-2"])
    assert rolled(well | {"web": "critical"}, BOOKING)["web"] == ("critical", [])
    ring = [need("a", "b"), need("b", "a")]
    assert {s for s, _ in rolled({"a": "ok", "b": "critical"}, ring).values()} == {"critical"}


def test_an_application_that_does_not_hang_together_is_refused() -> None:
    part = {"name": "web", "host": "web-n1"}
    for body, words in (
        ({"parts": [part, part]}, "two called 'web'"),
        ({"parts": [part], "needs": [{"from": "web", "to": ["db"]}]}, "no part 'db'"),
        ({"parts": [part], "needs": [{"from": "web", "to": ["web"]}]}, "does not need itself"),
        ({"parts": [{"name": "x"}]}, "one of host"),
        ({"parts": [{"name": "x", "host": "a", "probe": "b"}]}, "one of host"),
        ({"parts": [{"name": "x", "group": "a", "service": "b"}]}, "on which host"),
    ):
        with pytest.raises(ValidationError, match=words):
            ApplicationBody.model_validate(body)
