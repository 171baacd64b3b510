"""What the service says of itself: its figures, and what whoever runs it has to know before it hurts."""

from __future__ import annotations

import shutil
import time
from collections import deque
from collections.abc import Callable, Iterable, Mapping

import psutil

from balise import __version__
from balise.api.status import Figures, Status, Storage
from balise.server.keeping.growth import Growth
from balise.server.keeping.memory import Memory
from balise.server.keeping.space import Space
from balise.server.people.access import Access
from balise.store.events.store import EventStore
from balise.store.series.store import SeriesStore
from balise.store.state.store import StateStore

SOON_FULL = 7.0
"""Days within which a disk that fills up is told of."""

Warnings = Callable[[float], Iterable[str]]
"""What a part has to say to whoever runs the service, at a moment in unix seconds."""


class OwnFigures:
    """Measured while the service runs: `look` is called every second.

    Args:
        counters: what parts count, by name.
        counts: numbers that parts know: `hosts`, `watched_groups` and `last_tick_seconds`; the cores and the bytes that
            are taken beside this process: `cpu_beside`, `memory_beside`.
        warnings: of the parts, the most urgent first.
    """

    def __init__(
        self,
        *,
        organisation: str,
        access: Access,
        state: StateStore,
        series: SeriesStore,
        events: EventStore,
        space: Space,
        memory: Memory,
        growth: Growth,
        counters: Mapping[str, Callable[[], int]],
        counts: Mapping[str, Callable[[], float]],
        warnings: Iterable[Warnings],
    ) -> None:
        self._organisation = organisation
        self._access = access
        self._state = state
        self._series = series
        self._events = events
        self._space = space
        self._memory = memory
        self._counters = counters
        self._counts = counts
        self._warnings = tuple(warnings)
        self._process = psutil.Process()
        self._process.cpu_percent()
        self._began = time.time()
        self._rates: deque[tuple[float, int, int]] = deque(maxlen=61)
        self._growth = growth

    def look(self) -> None:
        """Notes how much was taken in so far, and how large it has become."""
        now = time.time()
        self._rates.append((now, self._series.points, self._events.events))
        self._growth.look(now)

    def warnings(self) -> list[str]:
        """The most urgent first."""
        now = time.time()
        found = [] if self._space.state == "enough" else [self._space.words]
        if self._memory.state == "tight":
            found.append(self._memory.words)
        days = self._growth.full_in(self._space.free)
        if not found and days is not None and days < SOON_FULL:
            found.append(f"at the pace of the last hours the console's disk is full in {days:.1f} days")
        for of_part in self._warnings:
            found += of_part(now)
        if rows := self._series.count_set_aside():
            found.append(f"{rows} rows of points could not be sealed and are set aside in series.db")
        return found

    def status(self, *, whole: bool) -> Status:
        """Whether the service is ready; the `whole` only for those who may see."""
        return Status(
            version=__version__,
            state="ready",
            organisation=self._organisation,
            needs_first_user=not self._access.has_users(),
            warnings=self.warnings() if whole else [],
            figures=self.figures() if whole else None,
        )

    def figures(self) -> Figures:
        now = time.time()
        first = self._rates[0] if self._rates else (now, self._series.points, self._events.events)
        span = max(now - first[0], 1.0)
        return Figures(
            uptime_seconds=now - self._began,
            cpu=self._process.cpu_percent() / 100 + self._counts["cpu_beside"](),
            memory=self._process.memory_info().rss + self._counts["memory_beside"](),
            points_per_second=(self._series.points - first[1]) / span,
            events_per_second=(self._events.events - first[2]) / span,
            hosts=int(self._counts["hosts"]()),
            watched_groups=int(self._counts["watched_groups"]()),
            last_tick_seconds=self._counts["last_tick_seconds"](),
            counters={name: count() for name, count in self._counters.items()},
            storage=Storage(
                state=self._state.size(),
                series=self._series.size(),
                events=self._events.size(),
                free=shutil.disk_usage(self._state.path.parent).free,
                growth=self._growth.per_day(),
                series_count=len(self._series.catalogue.series),
                samples_waiting=self._series.head.samples,
                keeps_raw_days=self._series.retention.raw,
                keeps_5m_days=self._series.retention.five_minutes,
                keeps_1h_days=self._series.retention.hour,
                keeps_events_days=self._events.keep_days,
            ),
        )
