"""A year in the box: a fleet for thirteen months with a clock of its own, through the paths that it takes in service.

In the suite a few hosts for six weeks; in `make soak` five hundred for thirteen months.
"""

from __future__ import annotations

import asyncio
import gc
import os
import sqlite3
import time
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path

import numpy as np
import psutil
import pytest
from numpy.typing import NDArray

from balise.core.events.new_event import NewEvent
from balise.core.growing import forecast
from balise.core.moments import NS
from balise.core.series.steps import Steps
from balise.server.data.sizes import Sizes
from balise.store.checks.whole import Check
from balise.store.copies.backup import Backup
from balise.store.copies.restore import Restore
from balise.store.events.store import Delivery, EventStore
from balise.store.series.layouts import Layout
from balise.store.series.matrices import DAY
from balise.store.series.roster import Series
from balise.store.series.store import Retention, SeriesStore
from balise.store.state.secrets import Sealer
from balise.store.state.store import StateStore
from olden import with_a_row_for_each

SOAK = os.environ.get("SOAK") == "yes"
HOSTS, SERIES, DAYS = (500, 4, 395) if SOAK else (40, 4, 30)
RAW, FIVE, HOUR, EVENTS = (14.0, 90.0, 730.0, 30.0) if SOAK else (3.0, 8.0, 730.0, 5.0)
EVERY = 3600 * NS
LINES = 200 if SOAK else 20
"""Lines of logs an hour."""
EMPTY = 600_000
"""Bytes of tables, files and a last day beside what grows: most of what a few hosts take, nothing beside a fleet's."""
T0 = int(time.time()) // 86_400 * DAY - DAYS * DAY
I64 = NDArray[np.int64]


def truth(number: int, times: I64) -> NDArray[np.float64]:
    """What a series measured: worked out from its number and the moment alone."""
    hours = times // (3600 * NS)
    return ((hours * (number % 7 + 3) + number * 11) % 1000) / 8.0


class House:
    """Both stores with one clock."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.now = T0
        self.state = StateStore(folder)
        Sealer(folder)
        self.open()
        metric = self.series.catalogue.metric("tide", "m", "gauge", "")
        self.ids = [
            [self.series.catalogue.series_id(host, metric, (("berth", str(n)),), "", "gauge") for n in range(SERIES)]
            for host in range(1, HOSTS + 1)
        ]
        self.layouts: list[Layout] = [self.series.catalogue.layouts.of(np.array(own)) for own in self.ids]

    def open(self) -> float:
        """Seconds that opening took."""
        began = time.perf_counter()
        retention = Retention(raw=RAW, five_minutes=FIVE, hour=HOUR)
        self.series = SeriesStore(self.folder, retention=retention, clock=lambda: self.now)
        self.events = EventStore(self.folder, keep_days=EVENTS)
        return time.perf_counter() - began

    def close(self) -> None:
        self.series.close()
        self.events.close()

    async def live(self, days: int) -> None:
        """So many days, hour by hour, with what the keeper does in them."""
        for step in range(days * DAY // EVERY):
            self.now += EVERY
            moment = np.array([self.now - 5 * NS])
            waiting = []
            for own, layout in zip(self.ids, self.layouts, strict=True):
                values = np.concatenate([truth(number, moment) for number in own])
                waiting.append(self.series.accept(self.series.batch(layout, moment, values)))
            await asyncio.gather(*waiting)
            if self.now % (3600 * NS) == 0:
                self.say()
            if step % 12 == 11:
                self.keep()

    def say(self) -> None:
        at = [self.now - 3600 * NS + i * (3600 * NS // LINES) for i in range(LINES)]
        lines = [NewEvent(t, f"pier-{i % HOSTS}", 6, "harbour", f"berth {i} is free", None) for i, t in enumerate(at)]
        self.events.accept_now(Delivery(lines))

    def keep(self) -> None:
        self.series.seal_due(self.now)
        self.series.compact(self.now)
        self.series.forget(self.now)
        self.events.forget(self.now)

    def size(self) -> int:
        with closing(sqlite3.connect(self.series.path)) as connection:
            connection.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        return self.series.size() + self.events.size()

    def used(self) -> int:
        """Bytes of it in which something stands."""
        with closing(sqlite3.connect(self.series.path)) as connection:
            free = connection.execute("PRAGMA freelist_count").fetchone()[0]
            empty = free * int(connection.execute("PRAGMA page_size").fetchone()[0])
        return self.size() - empty

    def rows(self) -> dict[str, int]:
        with closing(sqlite3.connect(self.series.path)) as connection:
            return {
                name: connection.execute(f"SELECT count(*) FROM {name}").fetchone()[0]
                for name in ("series", "trait", "layout", "inbox", "block", "metric", "aside")
            }

    def told(self, ahead: float) -> float:
        """What the console says that everything will take."""
        sizes = Sizes(state=self.state, series=self.series, events=self.events, clock=lambda: self.now)
        of_kinds, kept = sizes._measured()
        grows = {one.kind for one in kept}
        return forecast(kept, sum(one.bytes for one in of_kinds if one.kind not in grows | {"free"}), ahead)

    def check(self) -> None:
        """Everything that is asked for is what it was."""
        metric = self.series.catalogue.metrics["tide"]
        some = [self.ids[0][0], self.ids[-1][-1], self.ids[HOSTS // 2][1]]
        end = self.now // (3600 * NS) * 3600 * NS
        began = max(T0 + DAY, end - int(RAW * DAY) + DAY)
        expected = np.arange(began // EVERY * EVERY + EVERY - 5 * NS, end, EVERY)
        for number, (times, values) in zip(some, self.series.reader.raw(some, began, end), strict=True):
            np.testing.assert_array_equal(times, expected)
            np.testing.assert_array_equal(values, truth(number, times))
        steps = Steps(T0 + DAY, 3600 * NS, (end - T0 - DAY) // (3600 * NS))
        found = self.series.reader.rolled("1h", metric.id, some, steps, {"low", "high", "total", "count", "last"})
        moments = np.arange(T0 + EVERY - 5 * NS, end, EVERY)
        moments = moments[moments >= steps.start]
        index = steps.index(moments)
        for row, number in enumerate(some):
            values = truth(number, moments)
            np.testing.assert_array_equal(found.count[row], np.bincount(index, minlength=steps.count))
            np.testing.assert_allclose(found.total[row], np.bincount(index, values, steps.count), rtol=1e-12)
            highest = np.full(steps.count, -np.inf)
            np.maximum.at(highest, index, values)
            np.testing.assert_array_equal(found.high[row], highest)


def memory() -> int:
    gc.collect()
    return psutil.Process().memory_info().rss


def nothing_told(_what: str, _done: int, _of: int) -> None:
    """Nobody looks."""


def test_a_year_stays_within_what_was_told_and_every_number_is_what_it_was(tmp_path: Path) -> None:
    house = House(tmp_path / "data")
    settled = int(max(RAW, FIVE / 4, EVENTS)) + 8
    asyncio.run(house.live(settled))
    house.close()
    opened = [house.open()]
    told, rows, held = house.told(DAYS - settled), house.rows(), memory()
    asyncio.run(house.live(DAYS - settled))
    # What is free is used again: the file does not grow beyond what stands in it.
    assert house.size() < 1.35 * house.used()
    # Closed, nothing waits beside the files of days, which here depends on how far the index of words came meanwhile.
    house.close()
    house.open()
    assert house.used() + house.state.size() == pytest.approx(told, rel=0.2, abs=EMPTY)
    after = house.rows()
    assert {name: after[name] for name in ("series", "trait", "metric", "aside")} == {
        name: rows[name] for name in ("series", "trait", "metric", "aside")
    }
    assert after["block"] <= 1.2 * rows["block"]
    assert after["layout"] <= 2 * HOSTS
    assert len(house.events.days()) <= EVENTS + 2
    assert memory() - held < 100 << 20
    house.check()
    house.close()
    opened.append(house.open())
    house.check()
    assert opened[1] < 2 * opened[0] + 1
    known = list(house.series.catalogue.series.values())
    house.close()
    back(house, known, tmp_path)


def back(house: House, known: Sequence[Series], tmp_path: Path) -> None:
    """Upgraded from the form before, within a minute; and back to the copy that was made before."""
    with_a_row_for_each(house.series.path, known)
    Backup(house.folder, tmp_path / "copy", nothing_told).run()
    began = time.perf_counter()
    house.open()
    assert time.perf_counter() - began < 60
    house.check()
    house.close()
    house.state.close()
    assert list(Check(house.folder, nothing_told).findings()) == []
    Restore(tmp_path / "copy", tmp_path / "new", nothing_told).run()
    with closing(sqlite3.connect(tmp_path / "new" / "series.db")) as connection:
        assert connection.execute("PRAGMA user_version").fetchone()[0] == 3
    house.folder = tmp_path / "new"
    house.open()
    house.check()
    house.close()
