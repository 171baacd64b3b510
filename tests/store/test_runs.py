"""Days of the steps of an hour put together to longer runs: no answer changes by it, whatever comes meanwhile."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import numpy as np
import pytest
from numpy.typing import NDArray

from balise.core.moments import NS
from balise.core.series.steps import Steps
from balise.core.series.wire import PointKind
from balise.store.exports.view import SeriesView
from balise.store.series.matrices import DAY
from balise.store.series.store import Retention, SeriesStore

FIRST = 30 * 690
"""The day on which a run of thirty begins."""
DAYS = 47
START = FIRST + 4
T0 = START * DAY
EVERY = 1200 * NS
TIMES = T0 + np.arange(DAYS * DAY // EVERY) * EVERY
KINDS: tuple[PointKind, ...] = ("gauge", "counter", "delta")
F64 = NDArray[np.float64]
Rows = list[tuple[int, int]]


def made(seed: int) -> F64:
    """A level, a counter that begins anew now and then, and amounts: [3, times]."""
    rng = np.random.default_rng(seed)
    level = np.round(rng.normal(5, 2, len(TIMES)), 2)
    grown = rng.integers(0, 9, len(TIMES)).astype(float)
    counter = np.concatenate([np.cumsum(part) for part in np.split(grown, [200, 201, 2000])])
    return np.vstack([level, counter, grown])


class Pier:
    """A store with a level, a counter and amounts of two hosts."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.store = SeriesStore(folder, retention=Retention(raw=400, five_minutes=400, hour=730))
        catalogue = self.store.catalogue
        self.metrics = [catalogue.metric(kind, "1", kind, "") for kind in KINDS]
        self.ids = np.array(
            [
                [
                    catalogue.series_id(host, metric, (), "", kind)
                    for metric, kind in zip(self.metrics, KINDS, strict=True)
                ]
                for host in (1, 2)
            ]
        )

    def lay(self, since: int = 0, until: int = len(TIMES)) -> None:
        own = slice(since, until)
        self.store.lay_down(list(self.ids), [TIMES[own]] * 2, [made(host)[:, own] for host in (1, 2)])

    def compact(self, day: int) -> None:
        while self.store.compact((day + 1) * DAY + 4 * 3600 * NS):
            pass

    def asked(self, since: int = START, until: int = START + DAYS) -> dict[str, F64]:
        """All that the steps of an hour of some days say, of each metric: [hosts, steps]."""
        steps = Steps(since * DAY, 3600 * NS, (until - since) * 24)
        fields = {"low", "high", "total", "count", "last", "grown", "seen"}
        out: dict[str, F64] = {}
        for number, metric in enumerate(self.metrics):
            found = self.store.reader.rolled("1h", metric.id, self.ids[:, number].tolist(), steps, fields)
            out |= {f"{metric.name} {name}": getattr(found, name) for name in fields}
        return out

    def rows(self, metric: int = 0) -> Rows:
        """First day and number of days of what stands of a metric."""
        with closing(sqlite3.connect(self.store.path)) as connection:
            query = "SELECT day, whole FROM matrix WHERE tier = 3600 AND metric = ? ORDER BY day, whole"
            return connection.execute(query, (self.metrics[metric].id,)).fetchall()


@pytest.fixture
def pier(tmp_path: Path) -> Iterator[Pier]:
    it = Pier(tmp_path)
    yield it
    it.store.close()


def same(one: dict[str, F64], other: dict[str, F64]) -> None:
    for name, values in one.items():
        np.testing.assert_allclose(values, other[name], rtol=1e-9, err_msg=name)


def test_no_answer_changes_while_days_become_runs_and_runs_become_months(pier: Pier) -> None:
    pier.lay()
    before = pier.asked()
    # Asked in another way: what was laid down, summed up here.
    np.testing.assert_array_equal(before["gauge count"], np.full((2, DAYS * 24), 3.0))
    np.testing.assert_allclose(before["gauge total"][0], made(1)[0].reshape(-1, 3).sum(axis=1))
    np.testing.assert_allclose(before["delta high"][1], made(2)[2].reshape(-1, 3).max(axis=1))
    # From 20 minutes before the first step of all there is nothing that a counter could have grown from.
    growth = np.diff(made(1)[1], prepend=made(1)[1][0])
    growth = np.where(growth < 0, made(1)[1], growth)
    np.testing.assert_allclose(before["counter grown"][0], growth.reshape(-1, 3).sum(axis=1))
    for day in (START + 1, START + 9, START + 20, FIRST + 31):
        pier.compact(day)
        same(before, pier.asked())
    assert pier.rows()[0] == (FIRST, 30)
    pier.compact(START + DAYS + 3)
    same(before, pier.asked())
    assert pier.rows() == [
        (FIRST, 30),
        *((FIRST + 30 + 6 * i, 6) for i in range(3)),
        *((day, 1) for day in range(FIRST + 48, START + DAYS)),
    ]
    for since, until in ((START, START + 1), (FIRST + 29, FIRST + 31), (FIRST + 10, FIRST + 12)):
        part = slice((since - START) * 24, (until - START) * 24)
        same({name: values[:, part] for name, values in before.items()}, pier.asked(since, until))
    np.testing.assert_allclose(
        pier.store.scan.levels(sorted(pier.ids[:, 0].tolist()), Steps((FIRST + 7) * DAY, 3600 * NS, 24), "1h"),
        (before["gauge total"] / before["gauge count"])[:, 3 * 24 : 4 * 24],
    )


def test_what_comes_late_becomes_part_of_the_run_that_its_day_is_in(pier: Pier, tmp_path: Path) -> None:
    whole = Pier(tmp_path / "whole")
    whole.lay()
    expected = whole.asked()
    whole.store.close()
    hole = slice(15 * 72 + 10, 15 * 72 + 20)
    for own in (slice(0, hole.start), slice(hole.stop, len(TIMES))):
        pier.lay(own.start, own.stop)
    pier.compact(START + DAYS + 3)
    rows = pier.rows()
    pier.lay(hole.start, hole.stop)
    assert len(pier.rows()) > len(rows)
    same(expected, pier.asked())
    pier.compact(START + DAYS + 3)
    assert pier.rows() == rows
    same(expected, pier.asked())


def test_a_run_that_is_not_written_leaves_all_as_it_was(pier: Pier, monkeypatch: pytest.MonkeyPatch) -> None:
    pier.lay()
    before = pier.asked()
    with monkeypatch.context() as patched, pytest.raises(KeyError):
        swap = pier.store._compactor._swap
        broken = [{"tier": 3600}]
        patched.setattr(pier.store._compactor, "_swap", lambda gone, made: swap(gone, [*made, *broken]))
        pier.compact(START + DAYS + 3)
    same(before, pier.asked())
    pier.compact(START + DAYS + 3)
    same(before, pier.asked())


def test_a_host_that_is_erased_goes_from_runs_too_and_they_go_when_their_last_day_does(pier: Pier) -> None:
    pier.lay()
    pier.compact(START + DAYS + 3)
    before, rows = pier.asked(), pier.rows()
    pier.store.erase(1)
    assert pier.rows() == rows
    after = pier.asked()
    np.testing.assert_array_equal(after["gauge count"][0], 0)
    same({name: values[1:] for name, values in before.items()}, {name: values[1:] for name, values in after.items()})
    pier.store.forget((FIRST + 29 + 730) * DAY)
    assert pier.rows() == rows
    pier.store.forget((FIRST + 30 + 730) * DAY)
    assert pier.rows() == rows[1:]


def test_an_export_finds_each_day_of_a_run_and_tells_when_one_changes(pier: Pier) -> None:
    pier.lay(0, 20 * 72)
    pier.lay(21 * 72)
    pier.compact(START + DAYS + 3)
    view = SeriesView(pier.folder)
    days, marks = view.days("3600"), {day: view.mark(day, "3600") for day in (FIRST + 9, FIRST + 40)}
    view.close()
    assert days == list(range(FIRST, FIRST + 30)) + list(range(FIRST + 30, START + DAYS))
    pier.lay(20 * 72, 21 * 72)
    pier.compact(START + DAYS + 3)
    view = SeriesView(pier.folder)
    after = {day: view.mark(day, "3600") for day in marks}
    view.close()
    assert after[FIRST + 9] != marks[FIRST + 9]
    assert after[FIRST + 40] == marks[FIRST + 40]
