"""Frames come out as they went in, however they are cut on their way."""

from __future__ import annotations

import asyncio
from typing import Any, cast

from hypothesis import given
from hypothesis import strategies as st

from balise.front.frames import (
    MOST_FRAME,
    MOST_SAID,
    PATHS,
    Caller,
    Line,
    Sent,
    Taken,
    packed_head,
    packed_request,
    unpacked_head,
    unpacked_request,
)

LATIN = st.text(st.characters(max_codepoint=255), max_size=40)
FRAMES = st.lists(st.tuples(st.integers(1, 3), st.integers(0, 2**64 - 1), st.binary(max_size=60)), max_size=8)


class Wire:
    """Keeps what is written, instead of sending it."""

    def __init__(self) -> None:
        self.written = b""
        self.times = 0
        self.is_cut = False

    def writelines(self, parts: list[bytes]) -> None:
        self.written += b"".join(parts)
        self.times += 1

    def is_closing(self) -> bool:
        return self.is_cut

    def abort(self) -> None:
        self.is_cut = True


def line_on(wire: Wire) -> Line:
    line = Line()
    line.connection_made(cast("asyncio.BaseTransport", wire))
    return line


@given(FRAMES, st.lists(st.integers(1, 50), min_size=1))
def test_frames_are_heard_as_they_were_said(frames: list[tuple[int, int, bytes]], cuts: list[int]) -> None:
    wire = Wire()

    async def said() -> None:
        line = line_on(wire)
        for kind, number, content in frames:
            line.say(kind, number, content)

    asyncio.run(said())
    assert wire.times == min(1, len(frames))
    heard: list[tuple[int, int, bytes]] = []
    other = line_on(Wire())
    for kind in (1, 2, 3):
        other.hears[kind] = lambda number, content, kind=kind: heard.append((kind, number, content))  # type: ignore[misc]
    at, turn = 0, 0
    while at < len(wire.written):
        size = cuts[turn % len(cuts)]
        other.data_received(wire.written[at : at + size])
        at, turn = at + size, turn + 1
    assert heard == frames


def test_a_frame_larger_than_any_ends_the_line() -> None:
    wire = Wire()
    line = line_on(wire)
    line.data_received((MOST_FRAME + 1).to_bytes(4, "little") + b"\1" + bytes(8))
    assert wire.is_cut

    async def said() -> None:
        line.say(1)

    asyncio.run(said())
    assert wire.written == b""


def test_of_very_much_that_is_said_in_one_turn_none_waits_for_all_of_it() -> None:
    wire = Wire()

    async def said() -> None:
        line = line_on(wire)
        for number in range(MOST_SAID):
            line.say(1, number)
        # Each is a head and what it is of.
        assert wire.times == 2
        line.say(1)

    asyncio.run(said())
    assert wire.times == 3


@given(
    st.builds(
        Sent,
        st.sampled_from(PATHS),
        LATIN,
        st.binary(max_size=80),
        st.booleans(),
        st.none() | st.floats(allow_nan=False),
        LATIN,
    )
)
def test_a_delivery_is_read_as_it_was_written(sent: Sent) -> None:
    assert Sent.unpacked(sent.packed()) == sent


@given(st.integers(200, 599), st.binary(max_size=80), st.booleans(), st.integers(0, 600), st.text(max_size=40))
def test_answers_are_read_as_they_were_written(
    status: int, content: bytes, as_json: bool, retry: int, said: str
) -> None:
    taken, caller = Taken(status, content, as_json, retry), Caller(status, said)
    assert Taken.unpacked(taken.packed()) == taken
    assert Caller.unpacked(caller.packed()) == caller


@given(st.lists(st.tuples(st.binary(max_size=20), st.binary(max_size=20)), max_size=4), st.binary(max_size=80))
def test_a_request_and_the_head_of_an_answer_are_read_as_they_were_written(
    headers: list[tuple[bytes, bytes]], body: bytes
) -> None:
    scope: dict[str, Any] = {
        "type": "http",
        "http_version": "1.1",
        "scheme": "https",
        "method": "GET",
        "path": "/api/v1/hosts/Nørre \N{SNOWMAN}",
        "raw_path": b"/api/v1/hosts/N%C3%B8rre%20%E2%98%83",
        "query_string": b"a=%FF&b",
        "client": ("203.0.113.9", 4711),
        "server": ("192.0.2.1", 443),
        "headers": headers,
    }
    found, rest = unpacked_request(packed_request({**scope, "app": object()}, body))
    assert rest == body
    assert found == {**scope, "root_path": "", "state": {}, "asgi": {"version": "3.0"}}
    assert unpacked_head(packed_head(404, headers, "viewer Ann", False)) == (404, headers, "viewer Ann", False)
