"""Nothing that was read is lost: places are kept only after what was read is, and what is not kept is read again."""

from __future__ import annotations

import errno
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from balise.agent.agent import Agent
from balise.agent.identity import AgentSettings, Identity
from balise.agent.places import MOST, Places
from balise.agent.services import ServiceWork
from balise.api.kit_documents import KitDocument
from balise.api.probes import ProbeResult
from balise.api.remote import FollowedFile
from balise.api.services import ServiceTarget
from balise.collect.position import Position
from balise.core.kits.documents import read_kit
from balise.relay.results import Results
from running import until

KIT = """kit: barrier
version: "1.0"
title: Barrier
about: Its log
by: file
every: 5s
target:
  log: {about: its log, kind: path, needed: true}
logs:
  - {log: barrier, about: what it does, path: "{log}", form: regex, pattern: '(?P<message>.+)', body: message}
"""


def keep(places: Places, positions: dict[str, Position]) -> None:
    places.intend("parcel", positions)
    places.settle("parcel")


def test_places_outlast_a_restart_and_are_bounded(tmp_path: Path) -> None:
    path = tmp_path / "positions.json"
    places = Places(path)
    keep(places, {"/a": Position(1, 10), "/never-met": Position(0, 0)})
    keep(places, {f"/{n}": Position(2, n) for n in range(MOST - 1)})
    again = Places(path)
    assert (again.get("/a"), again.get("/never-met")) == (Position(1, 10), None)
    keep(again, {"/one-more": Position(3, 3)})
    assert Places(path).get("/a") is None and Places(path).get("/one-more") == Position(3, 3)
    path.write_text("[not what it was")
    assert Places(path).get("/one-more") is None


def test_after_a_kill_that_is_read_of_which_the_parcel_is_there(tmp_path: Path) -> None:
    path = tmp_path / "positions.json"
    places = Places(path)
    keep(places, {"/a": Position(1, 10), "/b": Position(2, 10)})
    places.intend("written", {"/a": Position(1, 20)})
    places.intend("lost", {"/b": Position(2, 20)})
    again = Places(path)
    again.settle_all(["written", "of something else"])
    for read in (again, Places(path)):
        assert (read.get("/a"), read.get("/b")) == (Position(1, 20), Position(2, 10))


class Disk:
    """A spool that can be full, and what got through."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch, agent: Agent) -> None:
        self.full = False
        self.kept: list[tuple[str, bytes]] = []
        monkeypatch.setattr(agent._spool, "put", self.put)
        monkeypatch.setattr(agent._spool, "write", lambda _path, content: self.put("logs", content))
        monkeypatch.setattr(agent._spool, "hand_out", lambda _path, _size: None)

    def put(self, kind: str, content: bytes) -> None:
        if self.full:
            raise OSError(errno.ENOSPC, "No space left on device")
        self.kept.append((kind, content))

    def has(self, text: str) -> int:
        return sum(content.count(text.encode()) for _, content in self.kept)


def agent_at(folder: Path, log: Path) -> Agent:
    identity = Identity("http://127.0.0.1:1", "pier-1", "token", time.time())
    return Agent(folder, identity, AgentSettings(follow=[FollowedFile(path=str(log))]))


def test_lines_that_a_full_disk_did_not_keep_are_read_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    log = tmp_path / "app.log"
    log.write_text("before anybody looked\n")
    agent = agent_at(tmp_path, log)
    disk = Disk(monkeypatch, agent)
    agent.turn(1000.0)
    disk.full = True
    log.write_text(log.read_text() + "said in the dark\n")
    agent.turn(1015.0)
    assert "No space left" in str(agent.report()["problem"])
    disk.full = False
    agent.turn(1030.0)
    assert (disk.has("said in the dark"), disk.has("before anybody")) == (1, 0)
    agent.turn(1045.0)
    assert disk.has("said in the dark") == 1
    log.write_text(log.read_text() + "while the agent was down\n")
    later = agent_at(tmp_path, log)
    after = Disk(monkeypatch, later)
    later.turn(1060.0)
    assert (after.has("while the agent was down"), after.has("said in the dark")) == (1, 0)
    for one in (agent, later):
        one.keeper.close()
        one.deliverer.close()


@pytest.fixture
def kit() -> KitDocument:
    return read_kit(KIT)


def test_a_flood_in_a_services_log_loses_no_line_and_none_comes_twice(tmp_path: Path, kit: KitDocument) -> None:
    """More lines than one turn hands over, and a disk that is full once on the way."""
    log = tmp_path / "barrier.log"
    log.write_text("")
    bodies: list[str] = []
    refused: list[int] = []
    places = Places(tmp_path / "positions.json")

    def deliver(
        _at: float, _r: object, _m: object, lines: list[Any], _kept: object, reached: dict[str, Position]
    ) -> None:
        if lines and not refused:
            refused.append(len(lines))
            raise OSError(errno.ENOSPC, "No space left on device")
        bodies.extend(line.body for line in lines)
        keep(places, reached)

    target = {"log": str(log)}
    service = ServiceTarget(id=1, name="barrier", kit=kit, target=target, every=5, time_limit=5)
    work = ServiceWork(deliver, places, [])

    def turn(done: Callable[[], object]) -> None:
        for held in work._held.values():
            held.due = 0.0
        work.look([service], time.time())
        until(done, 10)
        until(lambda: not any(held.busy for held in work._held.values()), 10)

    turn(lambda: work._held[1].turn)
    log.write_text("".join(f"cycle {n}\n" for n in range(5000)))
    turn(lambda: refused)
    turn(lambda: bodies)
    for _ in range(3):
        turn(lambda: True)
    assert bodies == [f"cycle {n}" for n in range(5000)]
    work.close()


def result(number: int) -> ProbeResult:
    return ProbeResult(at=str(number), good=True, seconds=0.1, message="")


def test_results_of_probes_wait_on_disk_while_the_console_is_away(tmp_path: Path) -> None:
    path = tmp_path / "probed.json"
    results = Results(path, most=3)
    for n in range(5):
        results.add("timetable", result(n))
    results.keep()
    again = Results(path, most=3)
    first, mark = again.oldest(2)
    assert [r.at for _, r in first] == ["2", "3"]
    # The oldest goes for a newer one while the first two are on their way.
    again.add("timetable", result(5))
    again.arrived(mark)
    assert [r.at for _, r in again.oldest(9)[0]] == ["4", "5"]
    again.arrived(again.oldest(9)[1])
    assert len(again) == 0 and not path.exists()
    path.write_text("half a")
    assert len(Results(path)) == 0
