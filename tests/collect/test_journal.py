"""The systemd journal: its export format, and journal files as journalctl reads them."""

from __future__ import annotations

import struct
import subprocess
import time
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from balise.collect.linux.journal import Journal
from balise.collect.readings import CollectorProblem, LogLine
from balise.core.events.journal import entries, line_of, source_of
from real import needs_services

NAMES = st.text(alphabet="ABCDEFGHIJ_", min_size=1, max_size=6)
ENTRIES = st.lists(
    st.dictionaries(NAMES, st.text(max_size=12).filter(lambda t: "\x00" not in t), min_size=1, max_size=4), max_size=6
)


def exported(found: list[dict[str, str]]) -> bytes:
    """As systemd writes it: a value with a line feed has its size before it."""
    out = b""
    for entry in found:
        for name, value in entry.items():
            data = value.encode("utf-8", "surrogatepass")
            if b"\n" in data:
                out += name.encode() + b"\n" + struct.pack("<Q", len(data)) + data + b"\n"
            else:
                out += name.encode() + b"=" + data + b"\n"
        out += b"\n"
    return out


@given(ENTRIES, st.integers(0, 200))
def test_entries_come_whole_and_none_before_it_is(found: list[dict[str, str]], cut: int) -> None:
    data = exported(found)
    assert entries(data) == (found, len(data))
    some, used = entries(data[:cut])
    assert some == found[: len(some)] and used <= min(cut, len(data))
    rest, _ = entries(data[used:])
    assert [*some, *rest] == found


@given(st.binary(max_size=200))
def test_any_bytes_can_be_read(data: bytes) -> None:
    for entry in entries(data)[0]:
        line_of(entry)


def test_fields_have_their_standard_names() -> None:
    entry = {
        "__REALTIME_TIMESTAMP": "1795414793775464",
        "__CURSOR": "s=1",
        "MESSAGE": "disk failing\nbadly",
        "PRIORITY": "3",
        "SYSLOG_IDENTIFIER": "smartd",
        "_PID": "77",
        "_SYSTEMD_UNIT": "smartd.service",
        "_BOOT_ID": "x",
        "SHIP": "skerry",
    }
    line = line_of(entry)
    assert (line.body, line.severity, line.time) == ("disk failing\nbadly", "error", 1795414793.775464)
    assert source_of(entry) == "smartd"
    assert line.attributes == {
        "syslog.appname": "smartd", "process.pid": "77", "systemd.unit": "smartd.service", "journal.ship": "skerry",
    }  # fmt: skip


def written(folder: Path, first: int, count: int) -> None:
    """Entries in a journal file, by systemd's own writer."""
    at = int(time.time() * 1e6) - 10_000_000
    made = [
        {
            "__REALTIME_TIMESTAMP": str(at + n * 1000),
            "__MONOTONIC_TIMESTAMP": str(1000 + n),
            "_BOOT_ID": "0123456789abcdef0123456789abcdef",
            "MESSAGE": f"ramp {n}\nsecond line" if n % 3 == 0 else f"ramp {n}",
            "PRIORITY": str(n % 8),
            "SYSLOG_IDENTIFIER": "ferry",
            "_HOSTNAME": "pier-1",
        }
        for n in range(first, first + count)
    ]
    (folder / "in.export").write_bytes(exported(made))
    words = ("/lib/systemd/systemd-journal-remote", "-o", str(folder / "out.journal"), "--split-mode=none")
    subprocess.run([*words, str(folder / "in.export")], check=True, capture_output=True)


def test_a_journal_file_is_read_on_from_its_cursor(tmp_path: Path) -> None:
    needs_services()
    written(tmp_path, 0, 5)
    place = [str(tmp_path / "out.journal")]
    journal = Journal(place)
    assert list(journal.read(time.time())) == []
    written(tmp_path, 5, 7)
    found = [one for one in journal.read(time.time()) if isinstance(one, LogLine)]
    assert [line.body for line in found] == [
        f"ramp {n}\nsecond line" if n % 3 == 0 else f"ramp {n}" for n in range(5, 12)
    ]
    assert {line.source for line in found} == {"ferry"}
    assert list(journal.read(time.time())) == []
    written(tmp_path, 12, 2)
    again = Journal(place, journal.position)
    assert [one.body.split("\n")[0] for one in again.read(time.time()) if isinstance(one, LogLine)] == [
        "ramp 12",
        "ramp 13",
    ]


def test_a_journal_that_cannot_be_read_says_why(tmp_path: Path) -> None:
    needs_services()
    with pytest.raises(CollectorProblem, match="cannot be read"):
        list(Journal([str(tmp_path / "none.journal")]).read(time.time()))
