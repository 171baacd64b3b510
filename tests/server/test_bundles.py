"""Bundles of relays, whose frames are lost for good when they are answered anything but 200 and 503."""

from __future__ import annotations

import asyncio
import time
from pathlib import Path

import pytest

from balise.api.access import NewEnrolmentKey
from balise.api.agents import Facts
from balise.api.relays import Frame, RelayEnrol
from balise.api.secrets import Secret
from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.receive.otlp import OtlpPaths
from balise.server.settings import Settings
from balise.server.turns import Turns
from balise.store.state.secrets import digest
from sending import gauge_request, log_request


def paths_of(console: Parts) -> OtlpPaths:
    return OtlpPaths(
        access=console.access,
        metrics=console.metric_intake,
        logs=console.log_intake,
        speakers=console.speakers,
        syslog=console.receivers,
        door=console.door,
        ceiling=1 << 30,
    )


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
    paths = paths_of(console)
    monkeypatch.setattr(console.log_intake._heavy, "_turns", Turns(1, 1, waiting=2))
    body = log_request("pier", [(time.time(), 9, "x" * 40_000)]).SerializeToString()

    async def send() -> list[int]:
        frames = [Frame(sender=sender, kind="logs", delivery=f"d{n}", at=time.time_ns()) for n in range(9)]
        return [a.status for a in await asyncio.gather(*(paths._frame(relay, f, body, 0.0) for f in frames))]

    answers = asyncio.run(send())
    assert sorted(answers) == [200] * 3 + [503] * 6
    close(console)


def test_what_a_relay_kept_before_tokens_had_numbers_is_taken(tmp_path: Path) -> None:
    console = build(Settings(data=tmp_path))
    _, token = console.tokens.make("old name", "ingest", by="test")
    relay, sender = relay_of(console, token)
    assert sender == "token:1:old name"
    console.relays._relays[relay].senders.add("token:old name")
    paths = paths_of(console)
    body = gauge_request("pier", "tide", [(time.time(), 1.0)]).SerializeToString()
    for named, status in ((sender, 200), ("token:old name", 200), ("token:other", 403)):
        frame = Frame(sender=named, kind="metrics", delivery="d", at=time.time_ns())
        assert asyncio.run(paths._frame(relay, frame, body, 0.0)).status == status
    close(console)
