"""Bundles of relays, whose frames are lost for good when they are answered anything but 200 and 503."""

from __future__ import annotations

import asyncio
import threading
import time
from collections.abc import Sequence
from pathlib import Path

import pytest

from balise.api.access import NewEnrolmentKey
from balise.api.agents import Facts
from balise.api.relays import Frame, RelayEnrol
from balise.api.secrets import Secret
from balise.front.frames import Sent
from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.people.access import Principal
from balise.server.settings import Settings
from balise.server.turns import Turns
from balise.store.state.secrets import digest
from sending import gauge_request, log_request


def relay_of(console: Parts, token: str) -> tuple[int, str]:
    """A relay that was shown a token, and whom it stands for."""
    key = console.enrolling.make_key(NewEnrolmentKey(label="k"), "test", "http://c").key
    facts = Facts(host_name="r", machine_id="r")
    number = console.relays.enrol(RelayEnrol(key=Secret(key), name="r", facts=facts)).relay_id
    sender = console.speakers.senders(number, [digest(token)])[digest(token)]
    assert sender is not None
    return number, sender.sender


def test_more_large_frames_than_may_wait_are_kept_by_the_relay(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """After an outage hundreds of one sender's come at once."""
    console = build(Settings(data=tmp_path))
    _, token = console.tokens.make("t", "ingest", by="test")
    relay, sender = relay_of(console, token)
    paths = console.taking
    monkeypatch.setattr(console.log_intake._heavy, "_turns", Turns(1, 1, waiting=2))
    body = log_request("pier", [(time.time(), 9, "x" * 40_000)]).SerializeToString()

    async def send() -> list[int]:
        frames = [Frame(sender=sender, kind="logs", delivery=f"d{n}", at=time.time_ns()) for n in range(9)]
        return [answer.status for answer in await paths.take_frames(relay, [(frame, body) for frame in frames])]

    answers = asyncio.run(send())
    assert sorted(answers) == [200] * 3 + [503] * 6
    close(console)


def test_what_a_relay_kept_before_tokens_had_numbers_is_taken(tmp_path: Path) -> None:
    console = build(Settings(data=tmp_path))
    _, token = console.tokens.make("old name", "ingest", by="test")
    relay, sender = relay_of(console, token)
    assert sender == "token:1:old name"
    console.relays._relays[relay].senders.add("token:old name")
    paths = console.taking
    body = gauge_request("pier", "tide", [(time.time(), 1.0)]).SerializeToString()
    frames = [
        (Frame(sender=named, kind="metrics", delivery="d", at=time.time_ns()), body)
        for named in (sender, "token:old name", "token:other")
    ]
    assert [answer.status for answer in asyncio.run(paths.take_frames(relay, frames))] == [200, 200, 403]
    close(console)


def test_a_token_that_takes_long_to_look_up_holds_up_nobody_else(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """As on a disk that is slow: others deliver meanwhile, and the slow one is taken in the end."""
    console = build(Settings(data=tmp_path))
    tokens = [console.tokens.make(name, "ingest", by="test")[1] for name in ("slow", "quick")]
    assert console.access.bearer(tokens[1]) is not None
    find, may_go_on = console.access._find_tokens, threading.Event()

    def slowly(asked: Sequence[str]) -> dict[str, tuple[Principal | None, float]]:
        may_go_on.wait(20)
        return find(asked)

    monkeypatch.setattr(console.access, "_find_tokens", slowly)
    paths, ended = console.taking, []
    body = gauge_request("pier", "tide", [(time.time(), 1.0)]).SerializeToString()

    async def post(token: str) -> None:
        taken = await paths.take(Sent("/v1/metrics", token, body))
        ended.append((token, taken.status))
        may_go_on.set()

    async def both() -> None:
        await asyncio.gather(*(post(token) for token in tokens))

    asyncio.run(both())
    assert ended == [(tokens[1], 200), (tokens[0], 200)]
    close(console)
