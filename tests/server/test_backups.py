"""Copies of everything: made under load, broken off at any moment, put back elsewhere; and what is damaged, mended."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import time
from contextlib import closing
from pathlib import Path

import numpy as np
import pytest

from balise.api.rules import RuleBody
from balise.client import Balise
from balise.client.errors import Refused
from balise.core.events.new_event import NewEvent
from balise.core.series.steps import Steps
from balise.server.life import close
from balise.server.parts import build
from balise.server.settings import Settings
from balise.store.checks.whole import Check
from balise.store.copies.backup import Backup
from balise.store.copies.manifest import FILE, Manifest
from balise.store.copies.restore import Restore
from balise.store.events.day_search import Search
from balise.store.events.index import words_path
from balise.store.events.store import Delivery
from balise.store.folders import RESTORING, DataError
from running import BALISE, Service, often, until
from sending import NS
from streaming import DAY, Stream

HIGH_WATER = {
    "about": "high water",
    "measure": {"metric": "tide", "take": "last"},
    "limits": {"critical": {"above": 400}},
}


def nothing_told(_what: str, _done: int, _of: int) -> None:
    """Nobody looks."""


def balise(*words: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run([BALISE, *words], capture_output=True, text=True, timeout=300, check=False)


@pytest.fixture
def week(tmp_path: Path) -> Path:
    """Three days of two series and of lines, sealed."""
    console = build(Settings(data=tmp_path / "data"))
    host = console.directory.ensure("pier-0")
    tide = console.series.catalogue.metric("tide", "m", "gauge", "")
    end = time.time_ns() // DAY * DAY
    times = np.arange(end - 3 * DAY, end, 60 * NS)
    ids = np.array([console.series.catalogue.series_id(host.id, tide, (("berth", b),), "", "gauge") for b in "ab"])
    values = np.random.default_rng(1).normal(4, 1, (2, len(times))).round(3)
    console.series.lay_down([ids], [times], [values])
    lines = [NewEvent(int(at), "pier-0", 6, "harbour", f"tide is {i}", None) for i, at in enumerate(times[::10])]
    console.events.accept_now(Delivery(lines))
    close(console)
    return tmp_path / "data"


def test_a_backup_under_load_has_all_that_was_acknowledged_before_it_and_is_broken_off_without_harm(
    own_service: Service, tmp_path: Path
) -> None:
    streams = [Stream(own_service, seed) for seed in range(2)]
    with own_service.client() as admin:
        admin.rules.apply("high-water", RuleBody.model_validate(HIGH_WATER))
    pause = random.Random(3)
    to, new = tmp_path / "copy", tmp_path / "new"
    for _ in range(often(4)):
        time.sleep(0.5)
        words = [BALISE, "data", "backup", str(to), "--data", str(own_service.data)]
        broken = subprocess.Popen(words, stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL)
        time.sleep(pause.uniform(0.3, 1.4))
        broken.kill()
        broken.wait()
        if (to / FILE).exists():
            shutil.rmtree(to)
    before = [(set(stream.points), set(stream.lines)) for stream in streams]
    made = balise("data", "backup", str(to), "--data", str(own_service.data))
    assert made.returncode == 0, made.stderr
    for stream in streams:
        stream.stop()
    own_service.stop(signal.SIGKILL)
    restored = balise("data", "restore", str(to), "--data", str(new))
    assert restored.returncode == 0, restored.stderr
    console = build(Settings(data=new))
    try:
        for stream, (points, lines) in zip(streams, before, strict=True):
            kept, said = stream.kept(console)
            assert points <= {at for at, _ in kept} <= stream.points
            assert len(kept) == len(dict(kept))
            assert lines <= set(said) <= stream.lines
            assert len(said) == len(set(said))
        assert console.rules.get("high-water").about == "high water"
    finally:
        close(console)
    assert "all of it is whole" in balise("data", "check", "--data", str(new)).stdout


def test_a_backup_is_private_and_only_goes_where_nothing_is(week: Path, tmp_path: Path) -> None:
    to = tmp_path / "copy"
    Backup(week, to, nothing_told).run()
    assert (to / "secret.key").read_bytes() == (week / "secret.key").read_bytes()
    assert {path.stat().st_mode & 0o077 for path in [to, *to.rglob("*")]} == {0}
    without = balise("data", "backup", str(tmp_path / "without"), "--without-key", "--data", str(week))
    assert "has no key" in without.stdout
    assert not (tmp_path / "without" / "secret.key").exists()
    with pytest.raises(DataError, match="holds a backup already"):
        Backup(week, to, nothing_told).run()
    (tmp_path / "letters").mkdir()
    (tmp_path / "letters" / "mine").touch()
    for words in (("backup", str(tmp_path / "letters")), ("restore", str(to))):
        target = week if words[0] == "backup" else tmp_path / "letters"
        refused = balise("data", *words, "--data", str(target))
        assert (refused.returncode, "is not empty" in refused.stderr) == (1, True)
    assert (tmp_path / "letters" / "mine").exists()


def test_a_file_that_changed_in_a_backup_is_not_put_back(week: Path, tmp_path: Path) -> None:
    to = tmp_path / "copy"
    Backup(week, to, nothing_told).run()
    with (to / "series.db").open("r+b") as file:
        file.seek(300)
        file.write(b"tide")
    with pytest.raises(DataError, match=r"series\.db in .* is not what was written"):
        Restore(to, tmp_path / "new", nothing_told).run()
    # What is half put back is no console's data, for any command.
    for words in (["serve", "--listen", "127.0.0.1:1"], ["token", "create", "x", "--role", "viewer"]):
        refused = balise(*words, "--data", str(tmp_path / "new"))
        assert refused.returncode == 1
        assert "is not whole" in refused.stderr or "cannot listen" in refused.stderr


def test_a_restore_that_was_broken_off_goes_on(week: Path, tmp_path: Path) -> None:
    to, new = tmp_path / "copy", tmp_path / "new"
    made = Backup(week, to, nothing_told).run()

    class Killed(Exception):
        pass

    def after_some(what: str, _done: int, _of: int) -> None:
        if what == made.files[-1].path:
            raise Killed

    with pytest.raises(Killed):
        Restore(to, new, after_some).run()
    assert (new / RESTORING).exists()
    copied = {path: path.stat().st_mtime_ns for path in new.rglob("*.db")}
    Restore(to, new, nothing_told).run()
    assert copied
    assert all(path.stat().st_mtime_ns == at for path, at in copied.items())
    assert not (new / RESTORING).exists()
    assert Manifest.read(to / FILE).size == sum((new / one.path).stat().st_size for one in made.files)


@pytest.mark.parametrize("place", ["../state.db", "/etc/passwd", "a/b/c", "events/.."])
def test_a_backup_names_no_place_outside_itself(place: str, week: Path, tmp_path: Path) -> None:
    to = tmp_path / "copy"
    Backup(week, to, nothing_told).run()
    told = json.loads((to / FILE).read_text())
    told["files"][0]["path"] = place
    (to / FILE).write_text(json.dumps(told))
    with pytest.raises(DataError, match="is no place in a backup"):
        Restore(to, tmp_path / "new", nothing_told).run()
    assert not (tmp_path / "new").exists()


def test_a_disk_without_room_is_told_before_anything_is_copied(
    week: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    full = os.statvfs_result((4096, 4096, 10, 1, 1, 10, 10, 10, 0, 255))
    monkeypatch.setattr(os, "statvfs", lambda _path: full)
    with pytest.raises(DataError, match=r"has room for 0\.0 GB"):
        Backup(week, tmp_path / "copy", nothing_told).run()
    assert not (tmp_path / "copy" / "state.db").exists()


def test_a_second_console_does_not_start_on_the_same_folder(own_service: Service) -> None:
    refused = balise("serve", "--data", str(own_service.data), "--listen", "127.0.0.1:0")
    assert refused.returncode in (1, 2)
    refused = balise("serve", "--data", str(own_service.data), "--listen", "127.0.0.1:11999")
    assert (refused.returncode, "runs on" in refused.stderr) == (1, True)
    refused = balise("data", "check", "--mend", "--data", str(own_service.data))
    assert (refused.returncode, "runs on" in refused.stderr) == (1, True)


def test_the_console_backs_itself_up(own_service: Service) -> None:
    with own_service.client() as admin, own_service.client("viewer") as viewer:
        begun = admin.data.back_up("before the upgrade")
        assert (begun.name, begun.state) == ("before the upgrade", "under way")
        whole = until(lambda: next((b for b in viewer.data.show().backups if b.state == "whole"), None))
        assert whole.bytes == sum(
            p.stat().st_size for p in Path(own_service.data / "backups").rglob("*.*") if p.name != FILE
        )
        with pytest.raises(Refused, match="already"):
            admin.data.back_up("before the upgrade")
        with pytest.raises(Refused, match="name"):
            admin.call("POST", "/data/backups", {"name": "../elsewhere"})
    check = Check(own_service.data / "backups" / "before the upgrade", nothing_told)
    assert list(check.findings()) == []


# --- what is damaged


def changed(path: Path, statement: str, *values: object) -> None:
    with closing(sqlite3.connect(path)) as connection:
        connection.execute(statement, values)
        connection.commit()


def of_berth_a(folder: Path) -> dict[str, list[float]]:
    """What the rollups of both tiers answer, by field."""
    console = build(Settings(data=folder))
    try:
        tide = console.series.catalogue.metrics["tide"]
        end = time.time_ns() // DAY * DAY
        found = {}
        for tier, width in (("5m", 300 * NS), ("1h", 3600 * NS)):
            steps = Steps(end - 3 * DAY, width, 3 * DAY // width)
            fields = {"low", "high", "total", "count", "last", "grown", "seen"}
            summary = console.series.reader.rolled(tier, tide.id, list(tide.series), steps, fields)  # type: ignore[arg-type]
            found |= {f"{tier} {name}": getattr(summary, name).ravel().tolist() for name in sorted(fields)}
        return found
    finally:
        close(console)


@pytest.mark.parametrize("table", ["block", "matrix"])
def test_a_bit_that_flips_is_found_and_what_can_be_is_made_anew(table: str, week: Path) -> None:
    before = of_berth_a(week)
    assert list(Check(week, nothing_told).findings()) == []
    column = "data" if table == "block" else "total"
    with closing(sqlite3.connect(week / "series.db")) as connection:
        number, blob = connection.execute(f"SELECT max(id), {column} FROM {table}").fetchone()
    flipped = bytes([*blob[:-6], blob[-6] ^ 4, *blob[-5:]])
    changed(week / "series.db", f"UPDATE {table} SET {column} = ? WHERE id = ?", flipped, number)
    [found] = Check(week, nothing_told).findings()
    assert f"{table} {number}" in found.what
    assert "data check --mend" in found.text
    mended = balise("data", "check", "--mend", "--data", str(week))
    assert mended.returncode == 0, mended.stdout
    assert ("it is taken out" if table == "block" else "made anew of the points of that day") in mended.stdout
    assert (week / "damaged" / f"{table}-{number}.json").exists()
    assert list(Check(week, nothing_told).findings()) == []
    after = of_berth_a(week)
    # Summed up from the points it is what it was; without a block of points what was summed up of them stays.
    assert all(after[name] == pytest.approx(before[name], nan_ok=True) for name in before)


def test_a_matrix_whose_points_are_gone_is_made_of_the_narrower_steps(week: Path) -> None:
    before = of_berth_a(week)
    changed(week / "series.db", "DELETE FROM block")
    changed(week / "series.db", "UPDATE matrix SET count = x'00' WHERE tier = 3600")
    assert "made anew of the steps of 5 min" in balise("data", "check", "--mend", "--data", str(week)).stdout
    after = of_berth_a(week)
    assert all(after[n] == pytest.approx(before[n], nan_ok=True) for n in before if not n.endswith(("grown", "seen")))


def test_counts_that_are_not_those_of_the_events_are_counted_anew(week: Path) -> None:
    day = sorted((week / "events").glob("????-??-??.db"))[1]
    tables = {name: rows_of(day, name) for name in ("minute", "said")}
    changed(day, "UPDATE minute SET count = count + 1 WHERE minute = (SELECT min(minute) FROM minute)")
    changed(day, "DELETE FROM said WHERE hour = (SELECT max(hour) FROM said)")
    [found] = Check(week, nothing_told).findings()
    assert "its counts by minute and by pattern are not those of its events" in found.text
    [mended] = Check(week, nothing_told, mend=True).findings()
    assert mended.mended == "they are counted anew"
    assert {name: rows_of(day, name) for name in tables} == tables


def rows_of(path: Path, table: str) -> list[tuple[object, ...]]:
    with closing(sqlite3.connect(path)) as connection:
        return sorted(connection.execute(f"SELECT * FROM {table}").fetchall())


def test_words_that_are_damaged_are_made_anew(week: Path) -> None:
    day = sorted((week / "events").glob("????-??-??.db"))[1]
    console = build(Settings(data=week))
    asked = Search(0, 1 << 62, "tide 300")
    before = len(console.events.find(asked, 500)[0])
    close(console)
    assert before
    with words_path(day).open("r+b") as file:
        file.seek(4096)
        file.write(os.urandom(3 * 4096))
    assert [one.what for one in Check(week, nothing_told).findings()] == ["the index of words is damaged"]
    assert [one.mended for one in Check(week, nothing_told, mend=True).findings()] == [
        "it is removed, and made anew when it is asked"
    ]
    console = build(Settings(data=week))
    assert len(console.events.find(asked, 500)[0]) == before
    close(console)


def test_what_sqlite_finds_damaged_is_told_and_left_to_a_backup(week: Path) -> None:
    with (week / "series.db").open("r+b") as file:
        file.seek(3 * 8192)
        file.write(bytes(8192))
    found = list(Check(week, nothing_told).findings())
    assert found
    assert all("restore" in one.remedy or "mend" in one.remedy for one in found)


def test_a_folder_without_data_is_told(tmp_path: Path, admin: Balise) -> None:
    for words in (["backup", str(tmp_path / "x")], ["check"], ["export", "--to", str(tmp_path / "y")]):
        refused = balise("data", *words, "--data", str(tmp_path / "none"))
        assert (refused.returncode, "there is no console's data" in refused.stderr) == (1, True)
