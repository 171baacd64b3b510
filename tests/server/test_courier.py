"""The courier: whatever channels do, what concerns an alert comes once and in order, and nobody waits for another."""

from __future__ import annotations

import tempfile
import threading
from collections import defaultdict
from collections.abc import Sequence
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from sqlalchemy import JSON, select

from balise.server.callouts.channels.channel import NotThrough, Sent
from balise.server.callouts.channels.places import checked_address
from balise.server.callouts.courier import Courier, Liveness
from balise.store.state.store import StateStore
from balise.store.state.tables import Alert, Delivery
from running import often, until

CHANNELS = ("mail", "hook", "pager")
KINDS = ("opened", "changed", "recovered")


class Desk:
    """A courier over a real state.db, channels that do as they are told, and a clock that is turned by hand."""

    def __init__(self, folder: Path) -> None:
        self.state = StateStore(folder)
        self.clock = 1000.0
        self.mood = dict.fromkeys(CHANNELS, "takes")
        self.got: dict[str, list[tuple[int, str]]] = defaultdict(list)
        self.courier = Courier(self.state, self._send, lambda: self.clock)

    def _send(self, delivery: Delivery, _only: Sequence[str] | None) -> Sent:
        mood = self.mood[delivery.channel]
        if mood == "away":
            raise NotThrough("away")
        if mood == "broken":
            raise ZeroDivisionError
        if mood == "refuses even" and (delivery.alert or 0) % 2 == 0:
            raise NotThrough("not this one", alone=True)
        self.got[delivery.channel].append((delivery.alert or 0, delivery.kind))
        return Sent()

    def alert(self, number: int) -> None:
        fields = {c.name: _filler(c) for c in Alert.__table__.columns if not c.nullable and c.name != "id"}
        self.state.write(lambda s: s.merge(Alert(id=number, **fields)) and None)

    def tell(self, number: int, kind: str, channels: Sequence[str]) -> None:
        self.alert(number)
        rows = [
            Delivery(
                alert=number, channel=c, kind=kind, content={}, state="waiting", created_at=self.clock, next_at=None
            )
            for c in channels
        ]
        self.state.write(lambda s: s.add_all(rows))

    def turn(self, seconds: float) -> None:
        self.clock += seconds
        self.courier.send_due(self.clock)
        until(lambda: not self.courier.at_work)

    def waiting(self) -> int:
        return self.state.read(lambda s: len(s.scalars(select(Delivery.id).where(Delivery.state == "waiting")).all()))

    def close(self) -> None:
        self.courier.close()
        self.state.close()


def _filler(column: object) -> object:
    kind = column.type  # type: ignore[attr-defined]
    return {} if isinstance(kind, JSON) else kind.python_type()


STEP = st.one_of(
    st.tuples(st.just("tell"), st.integers(1, 4), st.lists(st.sampled_from(CHANNELS), min_size=1, unique=True)),
    st.tuples(st.just("mood"), st.sampled_from(CHANNELS), st.sampled_from(["takes", "away", "broken", "refuses even"])),
    st.tuples(st.just("turn"), st.sampled_from([0.0, 1.0, 6.0, 100.0])),
    st.just(("restart",)),
)


@settings(max_examples=often(15), deadline=None)
@given(st.lists(STEP, max_size=20))
def test_each_channel_gets_everything_once_and_in_order(story: list[tuple[object, ...]]) -> None:
    with tempfile.TemporaryDirectory() as folder:
        desk = Desk(Path(folder))
        told: dict[str, dict[int, list[str]]] = defaultdict(lambda: defaultdict(list))
        stage: dict[int, int] = defaultdict(int)
        for step in story:
            if step[0] == "tell":
                number, channels = int(str(step[1])), list(step[2])  # type: ignore[call-overload]
                kind = KINDS[min(stage[number], 2)]
                stage[number] += 1
                desk.tell(number, kind, channels)
                for channel in channels:
                    told[channel][number].append(kind)
            elif step[0] == "mood":
                desk.mood[str(step[1])] = str(step[2])
            elif step[0] == "turn":
                desk.turn(float(str(step[1])))
            else:
                desk.courier.close()
                desk.courier = Courier(desk.state, desk._send, lambda desk=desk: desk.clock)  # type: ignore[misc]
        desk.mood = dict.fromkeys(CHANNELS, "takes")
        for _ in range(12):
            desk.turn(950.0)
        assert desk.waiting() == 0
        for channel in CHANNELS:
            by_alert: dict[int, list[str]] = defaultdict(list)
            for number, kind in desk.got[channel]:
                by_alert[number].append(kind)
            assert by_alert == told[channel]
        desk.close()


@pytest.fixture
def desk(tmp_path: Path) -> object:
    made = Desk(tmp_path)
    yield made
    made.close()


def test_a_channel_that_hangs_delays_no_other(desk: Desk) -> None:
    gate = threading.Event()
    plain = desk._send

    def send(delivery: Delivery, only: Sequence[str] | None) -> Sent:
        if delivery.channel == "pager":
            gate.wait(20)
        return plain(delivery, only)

    desk.courier._send = send
    for number in range(1, 401):
        desk.tell(number, "opened", ["pager"])
    desk.tell(401, "opened", ["mail"])
    desk.courier.send_due(desk.clock)
    until(lambda: desk.got["mail"] == [(401, "opened")], 5)
    assert desk.got["pager"] == []
    gate.set()


def test_a_delivery_is_noted_before_the_next_goes_out(desk: Desk) -> None:
    """state.db cannot be written for a while: what was sent is not sent again, and keeps its place."""
    desk.tell(1, "opened", ["hook"])
    desk.tell(1, "recovered", ["hook"])
    failing = [3]
    write = desk.state.write

    def sometimes(change: object) -> object:
        if failing[0]:
            failing[0] -= 1
            raise OSError("locked")
        return write(change)  # type: ignore[arg-type]

    desk.state.write = sometimes  # type: ignore[method-assign,assignment]
    desk.courier.send_due(desk.clock)
    until(lambda: not desk.courier.at_work, 20)
    desk.state.write = write  # type: ignore[method-assign]
    desk.turn(10.0)
    assert desk.got["hook"] == [(1, "opened"), (1, "recovered")]
    assert desk.courier.failed == 3


@pytest.mark.parametrize("address", ["127.0.0.1", "::1", "::ffff:127.0.0.1", "192.0.2.7"])
def test_loopback_and_mapped_addresses_are_no_reason_to_refuse(address: str) -> None:
    assert checked_address(address, 80) == address


def test_a_channel_that_died_before_a_restart_is_said_to_live_again(tmp_path: Path) -> None:
    desk = Desk(tmp_path)
    heard: list[Liveness] = []
    desk.courier.liveness.connect(heard.append)
    desk.mood["hook"] = "away"
    desk.tell(1, "opened", ["hook"])
    for _ in range(8):
        desk.turn(901.0)
    assert heard == [Liveness("hook", "away")]
    desk.courier.close()
    desk.courier = Courier(desk.state, desk._send, lambda: desk.clock)
    desk.courier.liveness.connect(heard.append)
    desk.mood["hook"] = "takes"
    desk.tell(2, "opened", ["hook"])
    desk.turn(901.0)
    assert heard[1:] == [Liveness("hook", None)]
    desk.close()
