"""Requests of access logs, added up by hand."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from balise.core.web_requests import RequestLine, added_up, number_in, path_of


def line(at: float, path: str, status: Any = 200, took: Any = None, client: str = "192.0.2.1") -> RequestLine:
    told = {
        "url.path": path,
        "http.request.method": "GET",
        "http.response.status_code": status,
        "client.address": client,
    }
    return RequestLine(at, f"event-{at:.0f}", told if took is None else {**told, "http.server.duration": took})


LINES = [
    line(30, "/sailings/7", took=0.1),
    line(10, "/sailings/4711?deck=2", took=0.3, client="192.0.2.2"),
    line(20, "/bookings", 504, 10.0),
    line(40, "/bookings", "404", "0.5"),
    line(50, "/about"),
]


def test_requests_by_path() -> None:
    bookings, sailings, about = added_up(LINES, "path")
    assert (bookings.of, bookings.count, bookings.failed, bookings.refused) == ("GET /bookings", 2, 1, 1)
    assert (bookings.seconds, bookings.longest, bookings.slowest) == (10.5, 10.0, "event-20")
    assert (sailings.of, sailings.count, len(sailings.clients)) == ("GET /sailings/{n}", 2, 2)
    assert (sailings.first, sailings.last, sailings.slowest) == (10, 30, "event-10")
    assert (about.seconds, about.longest, about.slowest) == (None, None, "event-50")


def test_requests_by_client_and_by_status() -> None:
    assert [(one.of, one.count) for one in added_up(LINES, "client")] == [("192.0.2.1", 4), ("192.0.2.2", 1)]
    assert {one.of: one.count for one in added_up(LINES, "status")} == {"200": 3, "504": 1, "404": 1}
    assert [one.of for one in added_up(LINES, "agent")] == [""]


@pytest.mark.parametrize(
    ("path", "of"),
    [
        ("/", "/"),
        ("/a/1/b/2", "/a/{n}/b/{n}"),
        ("/v2/items", "/v2/items"),
        ("/x/8f14e45f-ceea-467f-9575-1234567890ab#top", "/x/{n}"),
        ("/k/deadbeefdeadbeef/", "/k/{n}/"),
        ("/" + "x" * 400, "/" + "x" * 299),
    ],
)
def test_paths_of_a_kind_are_one(path: str, of: str) -> None:
    assert path_of(path) == of


@given(st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=12) | st.lists(st.integers()))
def test_whatever_a_log_says_is_counted(value: Any) -> None:
    (one,) = added_up([line(1.0, "/x", value, value)], "path")
    assert one.count == 1 and (one.seconds is None or 0 <= one.seconds < 1e9)
    assert number_in(True) is None and number_in("nan") is None and number_in("1.5") == 1.5
