"""Syslog taken in: framing of streams, pace, senders that never delay each other."""

from __future__ import annotations

import asyncio
import socket
import time
from collections.abc import Callable, Sequence
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from balise.listen.syslog.framing import CUT, LONGEST, Frames
from balise.listen.syslog.pace import Pace
from balise.listen.syslog.receiver import Receiver, bind

MESSAGES = st.lists(
    st.tuples(st.booleans(), st.binary(min_size=1, max_size=30).map(lambda b: b"<13>" + b.replace(b"\n", b"x"))),
    max_size=8,
)


def framed(messages: list[tuple[bool, bytes]]) -> bytes:
    return b"".join(b"%d %b" % (len(m), m) if counted else m + b"\n" for counted, m in messages)


@given(MESSAGES, st.lists(st.integers(1, 40), min_size=1, max_size=20))
def test_messages_come_whole_however_a_stream_is_cut(messages: list[tuple[bool, bytes]], sizes: list[int]) -> None:
    frames, data, found = Frames(), framed(messages), list[bytes]()
    at = part = 0
    while at < len(data):
        step = sizes[part % len(sizes)]
        found += frames.feed(data[at : at + step])
        at, part = at + step, part + 1
    found += frames.end()
    wanted = [m if counted else m.rstrip(b"\r\x00") for counted, m in messages]
    assert found == wanted


def test_counted_octets_keep_line_feeds_and_lines_need_no_count() -> None:
    """RFC 6587 sections 3.4.1 and 3.4.2."""
    frames = Frames()
    assert frames.feed(b"9 <13>a\nb\nc4 <1>x<13>plain\r\n12") == [b"<13>a\nb\nc", b"<1>x", b"<13>plain"]
    assert frames.feed(b" years ago\n") == [b"12 years ago"]
    assert frames.end() == []


@given(st.lists(st.binary(max_size=50), max_size=20))
def test_any_bytes_can_be_fed(parts: list[bytes]) -> None:
    frames = Frames()
    for part in parts:
        frames.feed(part)
    frames.end()


def test_what_is_too_long_is_cut_with_a_mark_and_what_follows_is_whole() -> None:
    frames = Frames()
    long = b"<13>" + b"x" * (3 * LONGEST)
    found = frames.feed(long[:100_000]) + frames.feed(long[100_000:] + b"\n<13>next\n")
    assert found == [long[:LONGEST] + CUT, b"<13>next"]
    counted = frames.feed(b"%d %b" % (len(long), long) + b"<13>after\n")
    assert counted == [long[:LONGEST] + CUT, b"<13>after"]


def test_a_pace_lets_a_burst_through_and_then_so_many_a_second() -> None:
    pace = Pace(0.0, per_second=10, burst=5)
    assert [pace.draw(3, 0.0), pace.draw(3, 0.0), pace.draw(1, 0.0)] == [3, 2, 0]
    assert pace.draw(50, 100.0) == 5
    assert pace.wait(20, 100.5) == pytest.approx(1.5)


class Heard:
    """Takes what a receiver hands over."""

    def __init__(self, slow: str = "") -> None:
        self.events: list[tuple[str, str]] = []
        self._slow = slow

    async def __call__(self, _receiver: str, address: str, messages: Sequence[bytes], _arrived: int) -> None:
        if address == self._slow:
            await asyncio.sleep(0.2)
        self.events += [(address, message.rpartition(b" - - - ")[2].decode()) for message in messages]


async def running(transport: Any, heard: Heard, pace: Callable[[float], Pace] = Pace) -> tuple[Receiver, int]:
    receiver = Receiver("quay", transport, heard, pace=pace)
    bound = bind(("127.0.0.1", 0), transport)
    await receiver.start(bound)
    return receiver, bound.getsockname()[1]


async def until(what: Callable[[], bool]) -> None:
    deadline = time.monotonic() + 10
    while not what():
        assert time.monotonic() < deadline
        await asyncio.sleep(0.01)


def line(number: int) -> bytes:
    return f"<13>1 2026-11-28T10:00:00Z pier-1 crew - - - deck {number}".encode()


def test_a_flood_over_udp_is_dropped_and_counted_and_others_are_heard() -> None:
    async def go() -> None:
        heard = Heard()
        receiver, port = await running("udp", heard, lambda now: Pace(now, per_second=1, burst=50))
        with (
            socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as loud,
            socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as quiet,
        ):
            loud.bind(("127.0.0.2", 0))
            quiet.bind(("127.0.0.3", 0))
            for number in range(300):
                loud.sendto(line(number), ("127.0.0.1", port))
                if number % 60 == 0:
                    await asyncio.sleep(0)
            quiet.sendto(line(7), ("127.0.0.1", port))
            await until(lambda: ("127.0.0.3", "deck 7") in heard.events)
        by = {one.address: one for one in receiver.senders}
        assert by["127.0.0.2"].received + by["127.0.0.2"].dropped == 300
        assert 50 <= by["127.0.0.2"].received <= 53
        assert receiver.dropped == by["127.0.0.2"].dropped > 200
        assert by["127.0.0.2"].held_back_at and not by["127.0.0.3"].held_back_at
        await receiver.stop()

    asyncio.run(go())


def test_a_flood_over_tcp_is_read_slowly_loses_nothing_and_delays_nobody() -> None:
    async def go() -> None:
        heard = Heard(slow="127.0.0.2")
        receiver, port = await running("tcp", heard, lambda now: Pace(now, per_second=20_000, burst=100))
        _, loud = await asyncio.open_connection("127.0.0.1", port, local_addr=("127.0.0.2", 0))
        loud.write(b"".join(line(n) + b"\n" for n in range(5000)))
        _, quiet = await asyncio.open_connection("127.0.0.1", port, local_addr=("127.0.0.3", 0))
        quiet.write(line(1) + b"\n")
        await until(lambda: ("127.0.0.3", "deck 1") in heard.events)
        assert len(heard.events) < 5001
        loud.close()
        quiet.close()
        await until(lambda: len(heard.events) == 5001)
        assert [body for address, body in heard.events if address == "127.0.0.2"] == [f"deck {n}" for n in range(5000)]
        await receiver.stop()

    asyncio.run(go())


def test_what_was_read_is_handed_over_when_a_receiver_ends() -> None:
    async def go() -> None:
        heard = Heard(slow="127.0.0.1")
        receiver, port = await running("tcp", heard)
        _, writer = await asyncio.open_connection("127.0.0.1", port)
        writer.write(line(1) + b"\n" + line(2))
        await writer.drain()
        await until(lambda: receiver.senders != [] and receiver.senders[0].bytes > 0)
        await receiver.stop()
        assert [body for _, body in heard.events] == ["deck 1", "deck 2"]

    asyncio.run(go())
