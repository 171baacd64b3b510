"""Exporting a data folder, day by day: what was done stays, and what changed since is done again."""

from __future__ import annotations

import fcntl
import os
import shutil
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import pyarrow as pa

from balise.core.series.steps import TIER_SECONDS, TIERS
from balise.store.events.store import day_name, day_of
from balise.store.exports import lines, points, rollups
from balise.store.exports.dayfiles import UNFINISHED, DayFiles
from balise.store.exports.ledger import Done, Ledger
from balise.store.exports.schemas import EVENTS, POINTS, ROLLUPS
from balise.store.exports.view import SeriesView
from balise.store.folders import DataError, must_be_whole
from balise.store.progress import Progress
from balise.store.series.matrices import DAY

KINDS = ("points", "rollups", "events")
_LOCK = ".lock"


@dataclass(frozen=True)
class _Unit:
    """One day of one kind, what it is known by, and what writes it."""

    kind: str
    day: int
    mark: str
    column: str
    schema: pa.Schema
    write: Callable[[DayFiles], None]

    @property
    def name(self) -> str:
        return f"{self.kind}/{day_name(self.day)}"


class Export:
    """Writes points, rollups and events of [start, end) nanoseconds. One export at a time writes to a folder."""

    def __init__(self, data: Path, to: Path, what: Sequence[str], start: int, end: int, progress: Progress) -> None:
        must_be_whole(data)
        if not (data / "state.db").exists():
            raise DataError(f"there is no console's data in {data}: name its folder with --data")
        self._data, self._to, self._what = data, to, what
        self._start, self._end, self._progress = start, end, progress

    def run(self) -> tuple[int, Ledger]:
        """Exports what is not there yet or has changed; answers how many days of kinds that were, and what stands."""
        ledger = Ledger.begin(self._to)
        with _alone(self._to):
            view = SeriesView(self._data) if {"points", "rollups"} & set(self._what) else None
            try:
                units = [unit for unit in self._units(view) if self._wanted(unit, ledger)]
                for done, unit in enumerate(units):
                    self._progress(unit.name, done, len(units))
                    self._write(unit, ledger)
                self._progress("", len(units), len(units))
                shutil.rmtree(self._to / UNFINISHED, ignore_errors=True)
            finally:
                if view is not None:
                    view.close()
        return len(units), ledger

    def _wanted(self, unit: _Unit, ledger: Ledger) -> bool:
        held = ledger.units.get(unit.name)
        return held is None or held.mark != unit.mark

    def _write(self, unit: _Unit, ledger: Ledger) -> None:
        before = ledger.units.get(unit.name)
        with DayFiles(self._to, unit.kind, day_name(unit.day), unit.column, unit.schema) as files:
            unit.write(files)
            if before is not None and files.rows < before.rows:
                # The console has begun to forget the day: what was exported is more than what is left of it.
                ledger.note(unit.name, Done(unit.mark, before.rows, before.size))
                return
            rows = files.rows
            ledger.note(unit.name, Done(unit.mark, rows, files.settle()))

    def _units(self, view: SeriesView | None) -> Iterator[_Unit]:
        span = (self._start, self._end)
        if view is not None and "points" in self._what:
            for day in self._days(view.days(None)):
                write = partial(points.write, view, day, *span)
                yield _Unit("points", day, self._marked(day, view.mark(day, None)), "metric", POINTS, write)
        if view is not None and "rollups" in self._what:
            for tier in TIERS:
                wide = str(TIER_SECONDS[tier])
                for day in self._days(view.days(wide)):
                    write = partial(rollups.write, view, tier, day, *span)
                    mark = self._marked(day, view.mark(day, wide))
                    yield _Unit(f"rollups/tier={tier}", day, mark, "metric", ROLLUPS, write)
        if "events" in self._what:
            files = {day_of(path.stem): path for path in (self._data / "events").glob("????-??-??.db")}
            for day in self._days(sorted(files)):
                mark = self._marked(day, lines.mark(files[day]))
                write = partial(lines.write, files[day], day, *span)
                yield _Unit("events", day, mark, "source", EVENTS, write)

    def _days(self, days: Sequence[int]) -> list[int]:
        return [day for day in days if day * DAY < self._end and (day + 1) * DAY > self._start]

    def _marked(self, day: int, mark: str) -> str:
        """Of a day that is not wanted whole, with what is wanted of it."""
        start, end = max(self._start, day * DAY), min(self._end, (day + 1) * DAY)
        return mark if (start, end) == (day * DAY, (day + 1) * DAY) else f"{mark} {start}-{end}"


@contextmanager
def _alone(to: Path) -> Iterator[None]:
    descriptor = os.open(to / _LOCK, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            raise DataError(f"another export writes to {to}: wait for it, or name another folder") from None
        yield
    finally:
        os.close(descriptor)
