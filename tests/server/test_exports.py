"""History as Parquet, read by others: DuckDB and pandas find what the API answers."""

from __future__ import annotations

import json
import random
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import duckdb
import numpy as np
import pandas as pd
import pytest

from balise.api.data import ExportBody
from balise.api.events import EventQuery, HistogramQuery
from balise.api.metrics import MetricQuery
from balise.api.spans import rfc3339
from balise.client import Balise
from balise.client.errors import Refused
from balise.core.moments import nanos
from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.settings import Settings
from balise.store.exports.dayfiles import NOTHING, partition
from balise.store.exports.export import KINDS, Export
from balise.store.folders import DataError
from demo_service import Demo
from running import BALISE, Service, often, until
from sending import NS, gauge_request, log_request, post

DAY = 86_400 * NS
ALWAYS = (0, 1 << 62)


def nothing_told(_what: str, _done: int, _of: int) -> None:
    """Nobody looks."""


def rows(to: Path, kind: str, where: str = "true") -> list[tuple[object, ...]]:
    depth = "/".join("*" * (3 if kind == "rollups" else 2))
    files = f"read_parquet('{to}/{kind}/{depth}/*.parquet', hive_partitioning=true)"
    words = f"SELECT * FROM {files} WHERE {where} ORDER BY ALL"
    try:
        return duckdb.execute(words).fetchall()
    except duckdb.IOException:  # a file was put in the place of another between two looks at it
        return duckdb.execute(words).fetchall()


def count(to: Path, kind: str) -> int:
    return len(rows(to, kind))


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Demo, Balise, Path, int]]:
    """A demo with more than a day behind it, and an export of the last day that is over, in unix seconds."""
    made = Demo(tmp_path_factory.mktemp("demo"), days="2")
    to = tmp_path_factory.mktemp("lake")
    day = int(time.time() // 86_400 - 1) * 86_400
    token = subprocess.run(
        [BALISE, "token", "create", "lake", "--role", "viewer", "--data", str(made.data)],
        check=True, capture_output=True, text=True,
    ).stdout.strip()  # fmt: skip
    span = ["--from", rfc3339(day), "--until", rfc3339(day + 86_400)]
    subprocess.run([BALISE, "data", "export", "--to", str(to), "--data", str(made.data), *span], check=True)
    with Balise(made.url, token) as client:
        yield made, client, to, day
    made.stop()


def test_the_points_of_a_day_are_those_that_the_api_answers(demo: tuple[Demo, Balise, Path, int]) -> None:
    _, client, to, day = demo
    for metric, attribute in (
        ("balise.cpu.busy", None),
        ("system.filesystem.utilization", "system.filesystem.mountpoint"),
    ):
        # Points of yesterday are a minute apart, and those of the last 24 hours 15 s: the last of each minute then.
        by = ["host", *([attribute] if attribute else [])]
        start = day + 3600
        query = MetricQuery(
            metric=metric, from_=rfc3339(start), to=rfc3339(start + 1800), step="15s", take="last", by=by
        )
        answer = client.metrics.read(query)
        asked = {
            (series.attributes["host"], series.attributes.get(attribute or ""), at): value
            for series in answer.series
            for at, value in zip(answer.times, series.values, strict=True)
            if value is not None
        }
        found = {
            (host, json.loads(attributes).get(attribute), float(at) / NS // 15 * 15): value
            for at, host, attributes, value in duckdb.sql(
                f"SELECT unix_nanos, host, attributes, value FROM read_parquet('{to}/points/*/*/*.parquet', "
                f"hive_partitioning=true) WHERE metric = '{metric}' AND unix_nanos >= {start * NS} "
                f"AND unix_nanos < {(start + 1800) * NS} ORDER BY unix_nanos"
            ).fetchall()
        }
        assert len(found) > 100
        assert found == asked


def test_the_rollups_of_a_day_are_those_that_the_api_answers(demo: tuple[Demo, Balise, Path, int]) -> None:
    _, client, to, day = demo
    for take, field in (("avg", "sum / count"), ("max", "max"), ("min", "min")):
        query = MetricQuery(
            metric="balise.cpu.busy", from_=rfc3339(day), to=rfc3339(day + 86_400), step="1h", take=take, by=["host"]
        )
        answer = client.metrics.read(query)
        asked = [
            (s.attributes["host"], at, pytest.approx(v))
            for s in answer.series
            for at, v in zip(answer.times, s.values, strict=True)
            if v is not None
        ]
        found = duckdb.sql(
            f"SELECT host, unix_nanos / {NS}, {field} FROM read_parquet('{to}/rollups/*/*/*/*.parquet', "
            "hive_partitioning=true) WHERE metric = 'balise.cpu.busy' AND tier = '1h'"
        ).fetchall()
        assert len(found) > 6 * 20
        assert sorted(found, key=lambda row: row[:2]) == sorted(asked, key=lambda row: row[:2])


def test_the_events_of_a_day_are_those_that_the_api_answers(demo: tuple[Demo, Balise, Path, int]) -> None:
    _, client, to, day = demo
    span = {"from_": rfc3339(day), "to": rfc3339(day + 86_400)}
    table = pd.read_parquet(to / "events")
    assert len(table) == client.events.count(HistogramQuery(**span)).total
    some = client.events.search(EventQuery(**span, where='severity ge "warning"', limit=300)).items
    assert some
    held = table.set_index("id")
    for event in some:
        row = held.loc[event.id]
        assert (row["host"], row["severity"], row["source"], row["body"]) == (
            event.host, event.severity, event.source, event.body,
        )  # fmt: skip
        assert json.loads(row["attributes"]) == event.attributes
        assert rfc3339(row["unix_nanos"] / NS) == event.time


def test_pandas_reads_what_duckdb_reads(demo: tuple[Demo, Balise, Path, int]) -> None:
    _, _, to, _ = demo
    table = pd.read_parquet(to / "points", filters=[("metric", "=", "balise.cpu.busy")])
    found = rows(to, "points", "metric = 'balise.cpu.busy'")
    assert len(table) == len(found) > 0
    assert table["value"].sum() == pytest.approx(sum(float(row[7]) for row in found))  # type: ignore[arg-type]
    assert str(table["time"].dtype) == "datetime64[us, UTC]"


# --- a small store, by hand


class Box:
    def __init__(self, folder: Path) -> None:
        self.folder = folder / "data"
        self.to = folder / "lake"
        self.console: Parts = build(Settings(data=self.folder))
        host = self.console.directory.ensure("pier-0")
        self.tide = self.console.series.catalogue.metric("tide", "m", "gauge", "")
        self.id = self.console.series.catalogue.series_id(host.id, self.tide, (), "", "gauge")
        self.end = time.time_ns() // DAY * DAY

    def lay(self, begin: int, end: int, step: int = 60) -> None:
        times = np.arange(begin, end, step * NS)
        self.console.series.lay_down([np.array([self.id])], [times], [np.arange(len(times), dtype=float)[None] / 4])

    def put(self, at: int, value: float) -> None:
        store = self.console.series
        store.accept_now(
            store.batch(store.catalogue.layouts.of(np.array([self.id])), np.array([at]), np.array([value]))
        )

    def export(self, start: int = 0, end: int = 1 << 62) -> int:
        return Export(self.folder, self.to, KINDS, start, end, nothing_told).run()[0]


@pytest.fixture
def box(tmp_path: Path) -> Iterator[Box]:
    made = Box(tmp_path)
    yield made
    close(made.console)


def test_only_days_that_changed_are_written_again(box: Box) -> None:
    box.lay(box.end - 2 * DAY, box.end)
    # Two days of points and of the rollups of two widths.
    assert box.export() == 6
    assert box.export() == 0
    late = box.end - DAY - 3600 * NS + 7
    box.put(late, 999.0)
    assert box.export() == 3
    assert count(box.to, "points") == 2 * 1440 + 1
    assert [row[7] for row in rows(box.to, "points", f"unix_nanos = {late}")] == [999.0]
    box.console.series.seal(np.iinfo(np.int64).max)
    assert box.export() == 3
    assert count(box.to, "points") == 2 * 1440 + 1
    hours = rows(box.to, "rollups", "tier = '1h'")
    assert sum(int(row[10]) for row in hours) == 2 * 1440 + 1  # type: ignore[call-overload]


def test_what_the_console_forgets_stays_exported(box: Box) -> None:
    box.lay(box.end - 3 * DAY, box.end)
    box.export()
    before = rows(box.to, "points")
    from balise.store.series.store import Retention

    box.console.series.retention = Retention(raw=1.2)
    box.console.series.forget(box.end + DAY)
    assert box.console.series.stored_samples() < len(before)
    box.export()
    assert rows(box.to, "points") == before


def test_a_span_cuts_days_where_it_says(box: Box) -> None:
    box.lay(box.end - 2 * DAY, box.end)
    start, end = box.end - DAY - 3600 * NS, box.end - DAY + 1800 * NS
    box.export(start, end)
    assert [int(row[1]) for row in rows(box.to, "points")] == list(range(start, end, 60 * NS))  # type: ignore[call-overload]
    assert count(box.to, "rollups") == 18 + 2
    # Asked for more, the rest of it comes.
    box.export()
    assert count(box.to, "points") == 2 * 1440


def test_names_that_are_places_or_nothing_are_partitions_like_others() -> None:
    assert partition("..") == "%2E%2E"
    assert partition("a/../b") == "a%2F..%2Fb"
    assert partition("") == NOTHING
    assert len(partition("x" * 4000)) < 255
    assert partition("x" * 4000) != partition("x" * 4001)


def test_two_exports_do_not_write_to_one_folder_and_none_into_anything_else(box: Box, tmp_path: Path) -> None:
    (tmp_path / "letters").mkdir()
    (tmp_path / "letters" / "mine").touch()
    with pytest.raises(DataError, match="holds no export"):
        Export(box.folder, tmp_path / "letters", KINDS, *ALWAYS, nothing_told).run()
    box.lay(box.end - DAY, box.end)
    inside: list[str] = []

    def another(_what: str, done: int, _of: int) -> None:
        if not inside:
            inside.append("")
            with pytest.raises(DataError, match="another export writes"):
                Export(box.folder, box.to, KINDS, *ALWAYS, nothing_told).run()

    Export(box.folder, box.to, KINDS, *ALWAYS, another).run()
    assert inside


def test_an_export_that_is_killed_goes_on_and_ends_the_same(tmp_path: Path) -> None:
    made = Box(tmp_path)
    for host in range(12):
        known = made.console.directory.ensure(f"pier-{host}")
        made.id = made.console.series.catalogue.series_id(known.id, made.tide, (), "", "gauge")
        made.lay(made.end - 6 * DAY, made.end, 15)
    close(made.console)
    words = [BALISE, "data", "export", "--data", str(made.folder), "--to"]
    pause = random.Random(5)
    for _ in range(often(4)):
        with subprocess.Popen([*words, str(made.to)], stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL) as broken:
            time.sleep(pause.uniform(0.8, 2.5))
            broken.kill()
    subprocess.run([*words, str(made.to)], check=True)
    subprocess.run([*words, str(tmp_path / "at once")], check=True)
    for kind, rows_of in (("points", 12 * 6 * 5760), ("rollups", 12 * 6 * (288 + 24))):
        assert count(made.to, kind) == rows_of
        assert rows(made.to, kind) == rows(tmp_path / "at once", kind)
    assert not (made.to / ".unfinished").exists()


# --- exports that the console does by itself


def test_the_console_exports_by_itself_and_follows(own_service: Service, tmp_path: Path) -> None:
    now = time.time()
    with own_service.client() as admin:
        sent = gauge_request("pier-0", "tide", [(now - 60 + i, float(i)) for i in range(30)])
        post(own_service.url, own_service.tokens["ingest"], "metrics", sent.SerializeToString())
        lines = log_request("pier-0", [(now - i, 9, f"line {i}") for i in range(5)]).SerializeToString()
        post(own_service.url, own_service.tokens["ingest"], "logs", lines)
        made = admin.data.put_export("lake", ExportBody(follow=True, every="1m"))
        to = Path(made.to)
        until(lambda: admin.data.export("lake").state == "following", 60)
        assert len(rows(to, "points", "metric = 'tide'")) == 30
        assert len(rows(to, "events", "host = 'pier-0'")) == 5
        # A restart goes on with it.
        own_service.stop()
        own_service.start()
        more = gauge_request("pier-0", "tide", [(now - 10, 77.0)])
        post(own_service.url, own_service.tokens["ingest"], "metrics", more.SerializeToString())
        # Said anew, it begins at once.
        admin.data.put_export("lake", ExportBody(follow=True, every="1m"))
        until(lambda: len(rows(to, "points", "metric = 'tide'")) == 31, 60)
        once = admin.data.put_export("once", ExportBody(what=["events"]))
        until(lambda: admin.data.export("once").state == "ended", 60)
        assert Path(once.to).exists()
        admin.data.delete_export("once", files=True)
        assert not Path(once.to).exists()
        assert [one.name for one in admin.data.exports()] == ["lake"]


def test_an_export_that_cannot_be_is_refused_by_its_field(admin: Balise) -> None:
    wrong: list[tuple[dict[str, object], str]] = [
        ({"what": []}, "what"),
        ({"what": ["secrets"]}, "what"),
        ({"every": "5s"}, "every"),
        ({"from": "2026-11-02T00:00:00Z", "until": "2026-11-01T00:00:00Z"}, "until"),
        ({"to": "/etc"}, "to"),
    ]
    for body, field in wrong:
        with pytest.raises(Refused) as refused:
            admin.call("PUT", "/exports/lake", body)
        assert field in str(refused.value.problem), body
    with pytest.raises(Refused):
        admin.call("PUT", "/exports/..%2Flake", {})
    assert admin.data.exports() == []


def test_an_export_that_fails_says_why(own_service: Service) -> None:
    exports = own_service.data / "exports"
    (exports / "lake").mkdir(parents=True)
    (exports / "lake" / "mine").touch()
    with own_service.client() as admin:
        admin.data.put_export("lake", ExportBody())
        failing = until(lambda: next((e for e in admin.data.exports() if e.state == "failing"), None), 60)
        assert "holds no export" in failing.said
        assert any("the export lake fails" in line for line in admin.status().warnings)
    assert nanos(1.0) == NS
