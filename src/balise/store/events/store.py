"""All days of events together."""

from __future__ import annotations

import asyncio
import json
import zlib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from balise.api.events import SEVERITIES, Event
from balise.api.spans import rfc3339
from balise.core.moments import NS, Nanos, seconds_of
from balise.store.events.day import MINUTE, Day, DayReader, NewEvent, Snapshot
from balise.store.events.day_search import DAY, DaySearch, Place, Search, needs_more, read_cursor
from balise.store.events.leases import Leases
from balise.store.events.sqlfilter import HostsMatching
from balise.store.writer import GroupWriter, tell

MOST_WRITTEN = 4
"""Days whose files are held open to be written: today's, and those of what comes late."""
QUEUE_EVENTS = 200_000
FUTURE = 3600 * NS


@dataclass(frozen=True)
class Delivery:
    """Events and snapshots that came together; `digest` names the delivery so that a repeat counts once."""

    events: list[NewEvent] = field(default_factory=list)
    snapshots: list[Snapshot] = field(default_factory=list)
    digest: bytes | None = None


class EventStore:
    """`listeners` are called on the writer's thread with the events of each group, ids in their order."""

    def __init__(self, folder: Path, *, keep_days: float = 30.0, hosts: HostsMatching | None = None) -> None:
        self.folder = folder / "events"
        self.folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        self.keep_days = keep_days
        self.hosts: HostsMatching = hosts or (lambda _term: [])
        self.listeners: list[Callable[[int, Sequence[int], Sequence[NewEvent]], None]] = []
        self.events = 0
        self.untold = 0
        """How often a listener failed."""
        self._days: dict[int, Day] = {}
        """The files being written; only the writer's thread looks at them."""
        self._leases = Leases()
        self._writer: GroupWriter[Delivery] = GroupWriter("event-writer", self._commit, limit=QUEUE_EVENTS)

    # --- taking in

    def accept(self, delivery: Delivery) -> asyncio.Future[None]:
        """A future of the running loop, done when all of it is durable. Raises `Busy` when too much waits."""
        return self._writer.put(delivery, max(1, len(delivery.events)))

    def accept_now(self, delivery: Delivery) -> None:
        """`accept` from an ordinary thread."""
        self._writer.write(delivery, max(1, len(delivery.events)))

    def _commit(self, deliveries: Sequence[Delivery]) -> None:
        by_day: dict[int, tuple[list[NewEvent], list[Snapshot], list[bytes]]] = {}
        fresh: set[bytes] = set()
        for delivery in deliveries:
            home = _home(delivery)
            if delivery.digest is not None:
                if delivery.digest in fresh or self._day(home).seen(delivery.digest):
                    continue
                fresh.add(delivery.digest)
            for event in delivery.events:
                by_day.setdefault(event.time // DAY, ([], [], []))[0].append(event)
            for snapshot in delivery.snapshots:
                by_day.setdefault(snapshot.time // DAY, ([], [], []))[1].append(snapshot)
            if delivery.digest is not None:
                by_day.setdefault(home, ([], [], []))[2].append(delivery.digest)
        # The day that holds the digests is written last: until it is, a repeat is taken again, never lost.
        for day in sorted(by_day):
            events, snapshots, digests = by_day[day]
            events.sort(key=lambda e: e.time)
            ids = self._day(day).write(events, snapshots, digests)
            self.events += len(events)
            self.untold += tell(self.listeners, day, ids, events)

    def _day(self, day: int) -> Day:
        """The file of a day to be written, on the writer's thread."""
        held = self._days.pop(day, None) or Day(_path(self.folder, day))
        self._days[day] = held
        if len(self._days) > MOST_WRITTEN:
            self._days.pop(next(iter(self._days))).close()
        return held

    # --- finding

    def existing(self, start: int, end: int) -> Iterator[tuple[int, DayReader]]:
        """The days that have a file and touch [start, end), newest first; each is held while it is looked at."""
        for day in sorted(self.days(), reverse=True):
            if day * DAY < end and (day + 1) * DAY > start:
                with self._leases.of(day, _path(self.folder, day)) as file:
                    yield day, file

    def days(self) -> list[int]:
        """The days that have a file, as days since 1970."""
        found = []
        for path in self.folder.glob("????-??-??.db"):
            try:
                found.append(int(datetime.fromisoformat(path.stem + "T00:00:00+00:00").timestamp()) // 86_400)
            except ValueError:
                continue
        return sorted(found)

    def find(self, search: Search, limit: int, cursor: str | None = None) -> tuple[list[Event], str | None]:
        """The newest events that match, and the cursor of the next page.

        Raises:
            BadCursor: the cursor was not given by an earlier answer.
        """
        place = read_cursor(cursor) if cursor else None
        found: list[Event] = []
        for day, file in self.existing(search.start, search.end):
            if place and day > place.day:
                continue
            at = place if place and day == place.day else Place(day)
            for row in DaySearch(day, file, self.hosts).newest_first(search, at, limit + 1 - len(found)):
                if len(found) == limit:
                    return _by_time(found), at.text()
                found.append(read_event(day, row))
                at = at.after(row)
        return _by_time(found), None

    def histogram(self, search: Search, start: int, width: int, count: int) -> list[list[int]]:
        """How many there were of the search, [severity code][step], from the kept counts where they can answer."""
        bars = [[0] * count for _ in SEVERITIES]
        lo, hi = max(start, search.start), min(start + width * count, search.end)
        aligned = width % MINUTE == 0 and start % MINUTE == 0
        kept = aligned and not search.text.strip() and (search.where is None or not needs_more(search.where))
        first, last = -(-lo // MINUTE) * MINUTE, hi // MINUTE * MINUTE
        for day, file in self.existing(lo, hi):
            if kept and first < last:
                # Minutes that are wholly inside from the counts, what is left of the first and last one by looking.
                found = DaySearch(day, file, self.hosts).kept_bars(search.where, first, last, start, width)
                edges = [(lo, first), (last, hi)]
            else:
                found, edges = [], [(lo, hi)]
            for a, b in edges:
                if a < b and a < (day + 1) * DAY and b > day * DAY:
                    found += DaySearch(day, file, self.hosts).counted(
                        replace(search, start=Nanos(a), end=Nanos(b)), start, width
                    )
            for at, severity, n in found:
                bars[severity][at] += n
        return bars

    def bodies(self, search: Search, limit: int) -> list[tuple[str, str, str]]:
        """Severity, source and body of the newest matching events."""
        found: list[tuple[str, str, str]] = []
        for day, file in self.existing(search.start, search.end):
            rows = DaySearch(day, file, self.hosts).bodies(search, limit - len(found))
            found.extend((SEVERITIES[s], source, body) for s, source, body in rows)
            if len(found) >= limit:
                break
        return found

    def snapshots(self, host: str, kind: str, start: Nanos, end: Nanos, limit: int) -> list[tuple[int, Any]]:
        """Moments and contents of what a host kept, newest first."""
        found: list[tuple[int, Any]] = []
        for _, file in self.existing(start, end):
            rows = file.read(
                "SELECT time, data FROM snapshot WHERE host = ? AND kind = ? AND time >= ? AND time < ? "
                "ORDER BY time DESC LIMIT ?",
                [host, kind, start, end, limit - len(found)],
            )
            found.extend((t, json.loads(zlib.decompress(data))) for t, data in rows)
            if len(found) >= limit:
                break
        return found

    # --- keeping

    def forget(self, now: int) -> list[str]:
        """Removes the files of days older than are kept; answers their names."""
        gone = []
        for day in self.days():
            if (day + 1) * DAY < now - int(self.keep_days * DAY):
                self._writer.run(lambda day=day: _close(self._days.pop(day, None)))  # type: ignore[misc]
                self._leases.drop(day)
                for path in self.folder.glob(f"{day_name(day)}.db*"):
                    path.unlink(missing_ok=True)
                gone.append(day_name(day))
        return gone

    def erase(self, host: str) -> int:
        """Removes everything of a host, day by day, in small steps between other writes. Answers how many events."""
        total = 0
        for day in self.days():
            while gone := self._writer.run(lambda day=day: self._day(day).erase(host)):  # type: ignore[misc]
                total += gone
        return total

    def size(self) -> int:
        return sum(p.stat().st_size for p in self.folder.glob("*.db*"))

    def close(self) -> None:
        self._writer.close()
        for day in self._days.values():
            day.close()
        self._days.clear()
        self._leases.close()


def _path(folder: Path, day: int) -> Path:
    return folder / f"{day_name(day)}.db"


def _close(day: Day | None) -> None:
    if day is not None:
        day.close()


def pack_snapshot(content: Any) -> bytes:
    """The content of a snapshot as it is kept."""
    return zlib.compress(json.dumps(content, separators=(",", ":")).encode(), 6)


def day_name(day: int) -> str:
    return datetime.fromtimestamp(day * 86_400, UTC).strftime("%Y-%m-%d")


def _home(delivery: Delivery) -> int:
    """The day that remembers a delivery: the newest it touches."""
    times = [e.time for e in delivery.events] + [s.time for s in delivery.snapshots]
    return max(times, default=0) // DAY


def read_event(day: int, row: Sequence[Any]) -> Event:
    """An event as it is answered, from its id, time, host, severity code, source, body and attributes."""
    number, time, host, severity, source, body, attributes = row
    return Event(
        id=f"{day}-{number}",
        time=rfc3339(seconds_of(time)),
        host=host,
        severity=SEVERITIES[severity],
        source=source,
        body=body,
        attributes=json.loads(attributes) if attributes else {},
    )


def _by_time(events: list[Event]) -> list[Event]:
    """Ids keep the order of time to within a minute; within a page it is exact."""
    return sorted(events, key=lambda e: e.time, reverse=True)
