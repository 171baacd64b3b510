"""Followed files held to a model of one that is written, turned over, copied, packed and truncated by chance."""

from __future__ import annotations

import gzip
import os
import shutil
import tempfile
import time
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from balise.collect.follow import Follower
from balise.collect.position import Position
from running import often

KEPT = 6


class Written:
    """A log with what turns it over, and a follower that may be killed: `said` is all that was written, in order."""

    def __init__(self, folder: Path) -> None:
        self.path = folder / "app.log"
        self.path.touch()
        self.said: list[str] = []
        self.heard: list[str] = []
        self.turned = 0
        self._clock = time.time_ns() - 10**15
        self._tick()
        self._position = Position()
        self._follower = Follower(str(self.path), from_start=True)
        self.read()

    def _tick(self) -> None:
        """A second passes: what happened to the file happened then."""
        self._clock += 10**9
        os.utime(self.path, ns=(self._clock, self._clock))

    def write(self, count: int, long: bool) -> None:
        with self.path.open("a") as file:
            for _ in range(count):
                line = f"line {len(self.said)} {'x' * 300 if long else ''}".strip()
                self.said.append(line)
                file.write(line + "\n")
        self._tick()

    def _room_for_one_more(self) -> None:
        for number in range(KEPT, 0, -1):
            for suffix in ("", ".gz"):
                old = Path(f"{self.path}.{number}{suffix}")
                if old.exists():
                    old.rename(f"{self.path}.{number + 1}{suffix}")
        self.turned += 1

    def rename(self) -> None:
        self._room_for_one_more()
        self.path.rename(f"{self.path}.1")
        self.path.touch()
        self._tick()

    def copy_and_truncate(self) -> None:
        self._room_for_one_more()
        shutil.copy2(self.path, f"{self.path}.1")
        os.truncate(self.path, 0)
        self._tick()

    def pack(self) -> None:
        """The newest of those turned over is packed, as without a delay."""
        old = Path(f"{self.path}.1")
        if old.exists():
            stat = old.stat()
            packed = Path(f"{old}.gz")
            packed.write_bytes(gzip.compress(old.read_bytes()))
            os.utime(packed, ns=(stat.st_atime_ns, stat.st_mtime_ns))
            old.unlink()

    def read(self) -> None:
        self.heard += [line.body for line in self._follower.read(time.time())]
        self._position = self._follower.position
        self.turned = 0

    def kill(self) -> None:
        """The follower goes, and comes back with the position that was kept after the last reading."""
        self._follower = Follower(str(self.path), from_start=True, position=self._position)

    def step(self, what: tuple[str, int]) -> None:
        name, count = what
        if name == "write":
            self.write(count, long=count > 6)
        elif name == "read":
            self.read()
        elif name == "kill":
            self.kill()
        elif self.turned < KEPT - 1:
            # More turns than are kept between two readings remove what was not read yet.
            {"rename": self.rename, "copy": self.copy_and_truncate, "pack": self.pack}[name]()


STEPS = st.tuples(
    st.sampled_from(["write", "write", "write", "read", "read", "turn", "turn", "pack", "kill"]), st.integers(1, 9)
)


@settings(max_examples=often(300), deadline=None)
@given(st.lists(STEPS, max_size=40), st.sampled_from(["rename", "copy"]))
def test_every_line_comes_once_and_in_order(story: list[tuple[str, int]], turn: str) -> None:
    with tempfile.TemporaryDirectory() as folder:
        log = Written(Path(folder))
        for name, count in story:
            log.step((turn if name == "turn" else name, count))
        for _ in range(KEPT + 2):
            log.read()
        assert log.heard == log.said


def test_two_turns_between_two_readings_lose_nothing(tmp_path: Path) -> None:
    log = Written(tmp_path)
    log.write(10, long=False)
    log.read()
    for _ in range(2):
        log.write(10, long=False)
        log.rename()
    log.write(10, long=False)
    log.read()
    assert log.heard == log.said


def test_what_was_truncated_away_is_a_gap_and_said(tmp_path: Path) -> None:
    path = tmp_path / "app.log"
    path.write_text("one\n")
    follower = Follower(str(path), from_start=True)
    assert len(list(follower.read(time.time()))) == 1
    path.write_text("another that is longer than the first\n")
    assert [line.body for line in follower.read(time.time())] == ["another that is longer than the first"]
    assert follower.gaps == 1
    assert "lines may be missing" in follower.status().detail


def test_who_still_writes_to_the_file_before_is_heard(tmp_path: Path) -> None:
    path = tmp_path / "app.log"
    with path.open("a") as slow:
        slow.write("one\n")
        slow.flush()
        follower = Follower(str(path), from_start=True)
        list(follower.read(1000.0))
        path.rename(tmp_path / "app.log.1")
        path.write_text("new\n")
        assert [line.body for line in follower.read(1001.0)] == ["new"]
        slow.write("late\nand unfinished")
        slow.flush()
        assert [line.body for line in follower.read(1002.0)] == ["late"]
        assert [line.body for line in follower.read(1062.0)] == ["and unfinished"]


@pytest.mark.parametrize("files", [2, 5])
def test_a_flood_in_one_file_leaves_the_others_their_share(tmp_path: Path, files: int) -> None:
    from balise.agent.agent import MOST_LINES, Agent
    from balise.agent.identity import AgentSettings, Identity

    agent = Agent(
        tmp_path, Identity(console="http://127.0.0.1:9", host="pier-1", host_id=1, token="t"), AgentSettings()
    )
    paths = [tmp_path / f"{n}.log" for n in range(files)]
    agent._followers = [Follower(str(p), from_start=True) for p in paths]
    paths[0].write_text("flood\n" * (MOST_LINES * 3))
    for path in paths[1:]:
        path.write_text("one\ntwo\n")
    got = [line.body for line in agent._lines(time.time())]
    assert got.count("one") == got.count("two") == files - 1
    assert len(got) >= MOST_LINES // files
