"""Followed files held to a model of one that is written, turned over, copied, packed and truncated by chance."""

from __future__ import annotations

import gzip
import os
import shutil
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from unittest import mock

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from balise.agent.following import MOST_LINES, Following
from balise.api.remote import FollowedFile
from balise.collect import follow
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


@settings(max_examples=often(200), deadline=None)
@given(
    st.lists(STEPS, max_size=20),
    st.lists(st.tuples(st.integers(0, 3), st.integers(0, 2)), min_size=1, max_size=12),
    st.sampled_from(["rename", "copy"]),
)
def test_what_is_turned_over_while_it_is_looked_for_is_read(
    story: list[tuple[str, int]], meanwhile: list[tuple[int, int]], turn: str
) -> None:
    """Between any two looks of the follower at the folder somebody writes lines and turns files over."""
    with tempfile.TemporaryDirectory() as folder:
        log, looks = Written(Path(folder)), iter(meanwhile)

        def disturbed(look: Callable[..., object]) -> Callable[..., object]:
            def looking(*args: object) -> object:
                found = look(*args)
                lines, turns = next(looks, (0, 0))
                for _ in range(turns):
                    if lines:
                        log.write(lines, long=False)
                    log.step((turn, 1))
                return found

            return looking

        with (
            mock.patch.object(follow, "look_at", disturbed(follow.look_at)),
            mock.patch.object(follow, "later", disturbed(follow.later)),
            mock.patch.object(follow, "siblings", disturbed(follow.siblings)),
        ):
            for name, count in story:
                log.step((turn if name == "turn" else name, count))
            for _ in range(KEPT + 2):
                log.read()
        log.read()
        assert log.heard == log.said


def test_another_file_with_the_inode_of_one_that_was_empty_is_not_that_one(tmp_path: Path) -> None:
    """Filesystems give the number of a file that was removed to the next one: the time of its birth tells them apart."""
    log = Written(tmp_path)
    for name in ("write", "rename", "pack", "kill", "rename", "write", "write", "pack"):
        log.step((name, 1))
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


def renamed_down(path: Path, turned: int) -> None:
    for number in range(turned, 0, -1):
        Path(f"{path}.{number}").rename(f"{path}.{number + 1}")
    path.rename(f"{path}.1")


def renamed_up(path: Path, turned: int) -> None:
    path.rename(f"{path}.{turned + 1:04d}")


@pytest.mark.parametrize("turn", [renamed_up, renamed_down])
@pytest.mark.parametrize("killed", [False, True])
def test_what_is_turned_over_in_one_moment_is_told_apart_by_its_name(
    tmp_path: Path, turn: Callable[[Path, int], None], killed: bool
) -> None:
    """Clocks of files tick some hundred times a second: several files can have one time."""
    path, said, heard, moment = tmp_path / "app.log", [], [], time.time_ns() - 10**12

    def write(word: str) -> None:
        said.append(word)
        path.write_text(f"{word}\n")
        os.utime(path, ns=(moment, moment))

    path.touch()
    os.utime(path, ns=(moment, moment))
    follower, turned = Follower(str(path), from_start=True), 0
    for steps in ("read write turn", "write read turn", "write turn write turn", "write turn write read"):
        for step in steps.split():
            if step == "read":
                heard += [line.body for line in follower.read(time.time())]
            elif step == "write":
                write(f"line {len(said)}")
            else:
                turn(path, turned)
                turned += 1
        if killed:
            follower = Follower(str(path), from_start=True, position=follower.position)
    for _ in range(3):
        heard += [line.body for line in follower.read(time.time())]
    assert heard == said


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


@pytest.mark.parametrize("killed", [False, True])
def test_who_still_writes_to_the_file_before_is_heard_once(tmp_path: Path, killed: bool) -> None:
    """As where the file that was turned over is let go seconds later: the new one is empty until then."""
    path = tmp_path / "app.log"
    with path.open("a") as slow:
        slow.write("one\n")
        slow.flush()
        follower = Follower(str(path), from_start=True)
        heard = list(follower.read(1000.0))
        path.rename(tmp_path / "app.log.1")
        path.touch()
        heard += follower.read(1001.0)
        slow.write("late\n")
        slow.flush()
        os.utime(tmp_path / "app.log.1", ns=(path.stat().st_mtime_ns + 10**9,) * 2)
        if killed:
            follower = Follower(str(path), from_start=True, position=follower.position)
        heard += follower.read(1002.0)
        path.write_text("new\n")
        for at in (1003.0, 1004.0):
            heard += follower.read(at)
        assert [line.body for line in heard] == ["one", "late", "new"]


@pytest.mark.parametrize("files", [2, 5])
def test_a_flood_in_one_file_leaves_the_others_their_share(tmp_path: Path, files: int) -> None:
    paths = [tmp_path / f"{n}.log" for n in range(files)]
    paths[0].write_text("flood\n" * (MOST_LINES * 3))
    for path in paths[1:]:
        path.write_text("one\ntwo\n")
    following = Following(lambda _: None)
    following.take_up([FollowedFile(path=str(path), from_start=True) for path in paths], time.time())
    got = [line.body for line in following.lines(time.time())]
    assert got.count("one") == got.count("two") == files - 1
    assert len(got) >= MOST_LINES // files
