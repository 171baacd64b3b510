"""What is at a path, in words; and bytes of a file as records."""

from __future__ import annotations

import json
import os
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from balise.agent.following import LOOK_EVERY, Following
from balise.api.parsers import Mask, Parser
from balise.api.remote import FollowedFile
from balise.collect.paths import look_at, tried
from balise.collect.position import Position
from balise.collect.records import LONGEST, Records


@pytest.fixture
def logs(tmp_path: Path) -> Path:
    (tmp_path / "deep" / "er").mkdir(parents=True)
    (tmp_path / "ferry.log").write_text("".join(f"line {n}\n" for n in range(60)))
    (tmp_path / "empty.log").touch()
    (tmp_path / "zeros.bin").write_bytes(bytes(4096))
    (tmp_path / "deep" / "er" / "ramp.log").write_text("ramp down\n")
    return tmp_path


def test_each_way_of_having_no_lines_is_told_apart(logs: Path) -> None:
    states = {
        name: look_at(str(logs / name)).state for name in ("ferry.log", "empty.log", "zeros.bin", "deep", "fery.log")
    }
    assert states == {
        "ferry.log": "following", "empty.log": "empty", "zeros.bin": "binary", "deep": "directory",
        "fery.log": "nothing-matches",
    }  # fmt: skip
    assert look_at(str(logs / "fery.log")).near[0] == str(logs / "ferry.log")
    assert look_at(str(logs / "deeep" / "x.log")).near == [str(logs / "deep")]
    assert look_at(str(logs / "ferry.log" / "x")).state == "nothing-matches"
    os.mkfifo(logs / "pipe")
    assert "pipe" in look_at(str(logs / "pipe")).message


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can become somebody who may not read")
def test_who_may_not_read_is_told_which_right_is_missing(logs: Path) -> None:
    for parent in [*logs.parents][:4]:
        if str(parent).startswith("/tmp/"):
            parent.chmod(0o755)
    logs.chmod(0o755)
    (logs / "ferry.log").chmod(0o600)
    (logs / "deep").chmod(0o700)
    os.seteuid(65534)
    try:
        file, folder = look_at(str(logs / "ferry.log")), look_at(str(logs / "deep" / "er" / "ramp.log"))
    finally:
        os.seteuid(0)
    assert file.state == folder.state == "unreadable"
    assert "read as nobody, who may not read it (mode 0600, owner " in file.message
    assert f"may not enter {logs}/deep (mode 0700" in folder.message


def test_a_path_is_tried_with_its_last_lines(logs: Path) -> None:
    found = tried(str(logs / "ferry.log"))
    assert (found.state, len(found.lines), found.lines[-1]) == ("following", 50, "line 59")
    many = tried(str(logs / "**" / "*.log"))
    assert "3 files match" in many.message
    assert tried(str(logs / "*.lgo")).near[0].endswith(".log")


def test_a_pattern_follows_what_comes_and_what_is_new_is_read_from_its_beginning(logs: Path) -> None:
    kept: dict[str, Position] = {}
    following = Following(kept.get)
    wanted = [FollowedFile(path=str(logs / "**" / "*.log"))]
    following.take_up(wanted, 1000.0)
    assert following.lines(1000.0) == []
    (logs / "deep" / "new.log").write_text("first\n")
    with (logs / "ferry.log").open("a") as file:
        file.write("more\n")
    following.take_up(wanted, 1000.0 + LOOK_EVERY)
    assert sorted(line.body for line in following.lines(1011.0)) == ["first", "more"]
    kept.update(following.positions())
    (logs / "while-away.log").write_text("said while away\n")
    again = Following(kept.get)
    again.take_up(wanted, 2000.0)
    assert [line.body for line in again.lines(2000.0)] == ["said while away"]


def test_old_files_of_a_path_that_is_new_are_read_once_and_first(logs: Path) -> None:
    import gzip

    (logs / "app.log").write_text("three\n")
    (logs / "app.log.1").write_text("two\n")
    (logs / "app.log.2.gz").write_bytes(gzip.compress(b"one\n"))
    for at, name in enumerate(("app.log.2.gz", "app.log.1", "app.log")):
        os.utime(logs / name, (1000 + at, 1000 + at))
    kept: dict[str, Position] = {}
    following = Following(kept.get)
    wanted = [FollowedFile(path=str(logs / "app.log"), from_start=True)]
    following.take_up(wanted, 5000.0)
    lines = [line.body for _ in range(4) for line in following.lines(5000.0)]
    assert lines == ["one", "two", "three"]
    kept.update(following.positions())
    again = Following(kept.get)
    again.take_up(wanted, 5000.0)
    assert again.lines(5001.0) == []


def test_a_plan_says_how_a_file_is_read_and_what_is_masked(logs: Path) -> None:
    wanted = [
        FollowedFile(
            path=str(logs / "app.log"),
            from_start=True,
            first_line=r"\d{4}-",
            parser=Parser(form="pattern", pattern=r"(?P<time>\S+) (?P<severity>\w+) (?P<body>(?s:.*))"),
            mask=[Mask(pattern=r"card \d+")],
        )
    ]
    (logs / "app.log").write_text(
        "2026-11-28T10:00:00Z ERROR card 4711 lost\n  at deck.py:7\n\n  at pier.py:9\n2026-11-28T10:00:01Z INFO on\n"
    )
    following = Following(lambda _: None)
    following.take_up(wanted, 1_795_860_000.0)
    lines = following.lines(1_795_860_000.0)
    assert [(line.severity, line.body) for line in lines] == [("error", "••• lost\n  at deck.py:7\n\n  at pier.py:9")]
    # The last record is whole when nothing follows it for a while.
    assert [line.body for line in following.lines(1_795_860_010.0)] == ["on"]


def test_only_what_passes_the_plans_filter_leaves_the_host(logs: Path) -> None:
    said = {"card": "4711", "msg": "paid"}
    (logs / "pay.log").write_text("".join(json.dumps({**said, "level": w}) + "\n" for w in ("info", "error", "debug")))
    wanted = FollowedFile(
        path=str(logs / "pay.log"),
        from_start=True,
        parser=Parser(form="json"),
        mask=[Mask(attribute="card")],
        send='severity ge "informational" and card sw "47"',
    )
    following = Following(lambda _: None)
    following.take_up([wanted], 5000.0)
    lines = following.lines(5000.0)
    # The filter sees what is masked; what leaves does not show it.
    assert [(line.severity, line.attributes["card"]) for line in lines] == [("informational", "•••"), ("error", "•••")]
    [status] = following.statuses()
    assert status.lines == 3 and "1 of its lines not sent" in status.detail


CUTS = st.lists(st.integers(1, 30), min_size=1, max_size=30)
TEXTS = st.lists(st.text(alphabet="abé \t€", max_size=12), max_size=20)


@given(TEXTS, CUTS, st.sampled_from(["utf-8", "utf-16", "utf-16-be", "cp1252"]), st.booleans())
def test_records_are_the_same_however_they_come(
    texts: list[str], cuts: list[int], encoding: str, indented: bool
) -> None:
    written = {"utf-16": "utf-16-le"}.get(encoding, encoding)
    texts = [text for text in texts if text.strip()]
    data = "".join(text + "\r\n" for text in texts).encode(written)
    records = Records(encoding, indented=indented)
    found: list[str] = []
    rest, at, turn = b"", 0, 0
    while at < len(data):
        step = cuts[turn % len(cuts)]
        rest, at, turn = rest + data[at : at + step], at + step, turn + 1
        got, used = records.split(rest)
        found += [one.text for one in got]
        rest = rest[used:]
    found += [one.text for one in records.split(rest, last=True)[0]]
    wanted: list[str] = []
    for text in texts:
        if indented and wanted and text[0] in " \t":
            wanted[-1] += "\n" + text
        else:
            wanted.append(text)
    assert found == wanted


def test_what_is_longer_than_a_record_may_be_is_cut_and_marked() -> None:
    records = Records()
    got, used = records.split(b"x" * (LONGEST + 10))
    assert [(len(one.text), one.cut) for one in got] == [(LONGEST, True)] and used == LONGEST + 10
    assert records.split(b"the rest\nnext\n")[0][0].text == "next"
    assert [(len(one.text), one.cut) for one in records.split(b"y" * (LONGEST + 1) + b"\n")[0]] == [(LONGEST, True)]
