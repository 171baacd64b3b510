"""What everything takes, and what a day of it takes."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from balise.api.data import DataForecast, DataSize
from balise.core.growing import Kept, forecast, stored_size
from balise.core.series.steps import TIER_SECONDS, TIERS
from balise.store.events.store import EventStore, day_name
from balise.store.series.matrices import DAY
from balise.store.series.store import SeriesStore
from balise.store.state.store import StateStore

AHEAD = (30, 90, 400)
"""Days for which it is told what everything will take."""
KNOWN_FOR = 600.0
"""Seconds for which what was measured is told."""
MOST_MEASURED = 400
"""Rows of a day whose lengths are looked at; the others are taken to be like them."""
_BLOCK = "length(series) + length(times) + length(data) + 60"
_MATRIX = (
    "length(series) + length(low) + length(high) + length(total) + length(count) + length(last) + "
    "coalesce(length(seen), 0) + coalesce(length(extra), 0) + 60"
)


class Sizes:
    """Measured when somebody asks, and told for a while. `clock` answers nanoseconds."""

    def __init__(
        self,
        *,
        state: StateStore,
        series: SeriesStore,
        events: EventStore,
        clock: Callable[[], int] = time.time_ns,
    ) -> None:
        self._state, self._series, self._events = state, series, events
        self._clock = clock
        self._lock = threading.Lock()
        self._known: tuple[float, list[DataSize], list[Kept]] | None = None

    def of_kinds(self) -> list[DataSize]:
        return self._measured()[0]

    def forecast(self) -> list[DataForecast]:
        """How large everything will be; empty until there was a whole day."""
        sizes, kept = self._measured()
        if not kept:
            return []
        grows = {one.kind for one in kept}
        other = sum(one.bytes for one in sizes if one.kind not in grows)
        return [DataForecast(in_days=days, bytes=int(forecast(kept, other, days))) for days in AHEAD]

    def _measured(self) -> tuple[list[DataSize], list[Kept]]:
        with self._lock:
            now = time.monotonic()
            if self._known is None or now - self._known[0] > KNOWN_FOR:
                kept = list(self._kept())
                self._known = (now, list(self._sizes(kept)), kept)
            return self._known[1], self._known[2]

    def _sizes(self, kept: list[Kept]) -> Iterator[DataSize]:
        daily: dict[str, list[Kept]] = {}
        for one in kept:
            daily.setdefault(one.kind, []).append(one)
        series = self._series.size()
        free, waiting = self._free(), 16 * self._series.head.samples
        of_kind = {kind: sum(one.per_day * one.here for one in of) for kind, of in daily.items()}
        points, rollups = of_kind.get("points", 0.0), of_kind.get("rollups", 0.0)
        taken = max(0, series - free - waiting)
        # What a day takes tells the shares; the file tells how much that is.
        share = points / (points + rollups) if points + rollups else 1.0
        events, words = self._event_files()
        for kind, size in (
            ("points", int(taken * share)),
            ("rollups", taken - int(taken * share)),
            ("waiting", waiting),
            ("free", free),
            ("events", events),
            ("words", words),
            ("state", self._state.size()),
        ):
            of = daily.get(kind, [])
            yield DataSize(
                kind=kind,  # type: ignore[arg-type]
                bytes=size,
                per_day=sum(one.per_day for one in of) if of else None,
                days=max(one.days for one in of) if of else None,
            )

    def _kept(self) -> Iterator[Kept]:
        """What the last whole day took, by kind."""
        day = self._clock() // DAY - 1
        retention = self._series.retention
        with self._series.engine.connect() as connection:
            page = int(connection.exec_driver_sql("PRAGMA page_size").scalar_one())

            def mean(table: str, lengths: str, where: str, parameters: tuple[int, ...]) -> tuple[int, float]:
                """How many rows there are, and bytes of one."""
                count, low, high = connection.exec_driver_sql(
                    f"SELECT count(*), min(id), max(id) FROM {table} WHERE {where}", parameters
                ).one()
                if not count:
                    return 0, 0.0
                every = max(1, (high - low + 1) // MOST_MEASURED)
                found = connection.exec_driver_sql(
                    f"SELECT {lengths} FROM {table} WHERE {where} AND id % ? = ? LIMIT ?",
                    (*parameters, every, low % every, 2 * MOST_MEASURED),
                ).all()
                return count, sum(stored_size(row[0], page) for row in found) / max(1, len(found))

            first = connection.exec_driver_sql("SELECT min(last) FROM block").scalar()
            count, size = mean("block", _BLOCK, "last >= ? AND last < ?", (day * DAY, (day + 1) * DAY))
            if count and first is not None:
                yield Kept("points", count * size, retention.raw, (self._clock() - first) / DAY)
            for tier, days in zip(TIERS, (retention.five_minutes, retention.hour), strict=True):
                wide = TIER_SECONDS[tier]
                oldest = connection.exec_driver_sql("SELECT min(day) FROM matrix WHERE tier = ?", (wide,)).scalar()
                # The pieces of a day that are not put together yet take up to twice as much, and days that are not
                # put together to a longer run more than it.
                newest = connection.exec_driver_sql(
                    "SELECT day, whole FROM matrix WHERE tier = ? AND whole ORDER BY whole DESC, day DESC LIMIT 1",
                    (wide,),
                ).first()
                first_day, run = (day, 0) if newest is None else newest
                count, size = mean("matrix", _MATRIX, "tier = ? AND day = ? AND whole = ?", (wide, first_day, run))
                if count and oldest is not None:
                    # A run goes when the last of its days does.
                    kept_for = days + (max(1, run) - 1) / 2
                    yield Kept("rollups", count * size / max(1, run), kept_for, day + 1 - oldest)
        days_here = self._events.days()
        if day in days_here:
            for kind, ending in (("events", ".db"), ("words", ".words.db")):
                yield Kept(kind, self._of_day(days_here, day, ending), self._events.keep_days, len(days_here))

    def _of_day(self, days: list[int], last: int, ending: str) -> int:
        """Bytes of the newest day, up to the last that is over, that stands in one file; what waits beside a file has
        some pages several times."""
        found = 0
        for day in sorted((day for day in days if day <= last), reverse=True):
            path = self._events.folder / f"{day_name(day)}{ending}"
            whole, beside = _size_of(path), _size_of(path.with_name(f"{path.name}-wal"))
            if whole and not beside:
                return whole
            found = found or whole + beside
        return found

    def _free(self) -> int:
        """Bytes of the file that nothing stands in."""
        with self._series.engine.connect() as connection:
            pages = connection.exec_driver_sql("PRAGMA freelist_count").scalar_one()
            return int(pages * connection.exec_driver_sql("PRAGMA page_size").scalar_one())

    def _event_files(self) -> tuple[int, int]:
        events = words = 0
        for path in self._events.folder.glob("*.db*"):
            if ".words.db" in path.name:
                words += _size_of(path)
            else:
                events += _size_of(path)
        return events, words


def _size_of(path: Path) -> int:
    """Bytes of a file; 0 for one that is not there, or not any more."""
    try:
        return path.stat().st_size
    except FileNotFoundError:
        return 0
