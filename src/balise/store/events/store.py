"""All days of events together."""

from __future__ import annotations

import asyncio
import json
import zlib
from bisect import bisect_left
from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from functools import partial
from operator import itemgetter
from pathlib import Path
from typing import Any

from balise.api.events import SEVERITIES, Event
from balise.api.spans import rfc3339
from balise.core.events.new_event import NewEvent
from balise.core.moments import NS, Nanos, seconds_of
from balise.store.database import in_pieces
from balise.store.events.day import MINUTE, Day, DayReader, Snapshot
from balise.store.events.day_search import COLUMNS, DAY, DaySearch, Place, Search, needs_more, read_cursor
from balise.store.events.index import Indexer, words_path
from balise.store.events.keeping import Keeping, KeepRule
from balise.store.events.leases import Leases
from balise.store.events.pattern_book import PatternBook
from balise.store.events.sqlfilter import HostsMatching, Lookups
from balise.store.events.upgrade import bring_up
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


Listener = Callable[[int, Sequence[int], Sequence[NewEvent], Sequence[int]], None]
"""Is told a day, and of events written there their ids, themselves, and their patterns."""


class EventStore:
    """`listeners` are called on the writer's thread with the events of each group."""

    def __init__(self, folder: Path, *, keep_days: float = 30.0, hosts: HostsMatching | None = None) -> None:
        self.folder = folder / "events"
        self.folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        self._keeping = Keeping((), keep_days)
        self._kept_to: dict[int, tuple[Keeping, float]] = {}
        """By day: what was kept to, and how old the day was then."""
        self.book = PatternBook(self.folder)
        self.lookups = Lookups(hosts or (lambda _term: []), self.book.family, self.book.said_by)
        self.listeners: list[Listener] = []
        self.may_forget: Callable[[int], bool] = lambda _day: True
        """Asked before a day that is over is removed; False lets it stay for now."""
        self.events = 0
        self.untold = 0
        """How often a listener failed."""
        self._days: dict[int, Day] = {}
        """The files being written; only the writer's thread looks at them."""
        self._settled: set[int] = set()
        """Those of them that are over and stand in one file."""
        self._indexer = Indexer()
        self._leases = Leases(self._indexer)
        for day in self.days():
            bring_up(_path(self.folder, day), self.book)
        self._writer: GroupWriter[Delivery] = GroupWriter("event-writer", self._commit, limit=QUEUE_EVENTS)

    # --- taking in

    def accept(self, delivery: Delivery) -> asyncio.Future[None]:
        """A future of the running loop, done when all of it is durable. Raises `Busy` when too much waits."""
        return self._writer.put(delivery, max(1, len(delivery.events)))

    def accept_now(self, delivery: Delivery) -> None:
        """`accept` from an ordinary thread."""
        self._writer.write(delivery, max(1, len(delivery.events)))

    def tell_all(self) -> None:
        """Returns when listeners have been told of all that can be found by now."""
        self._writer.run(lambda: None)

    def _commit(self, deliveries: Sequence[Delivery]) -> None:
        events: list[NewEvent] = []
        snapshots: dict[int, list[Snapshot]] = defaultdict(list)
        digests: dict[int, list[bytes]] = defaultdict(list)
        fresh: set[bytes] = set()
        for delivery in deliveries:
            if delivery.digest is not None:
                home = _home(delivery)
                if delivery.digest in fresh or self._day(home).seen(delivery.digest):
                    continue
                fresh.add(delivery.digest)
                digests[home].append(delivery.digest)
            events += delivery.events
            for snapshot in delivery.snapshots:
                snapshots[snapshot.time // DAY].append(snapshot)
        events.sort(key=itemgetter(0))
        by_day = dict(_by_day(events))
        # The day that holds the digests is written last: until it is, a repeat is taken again, never lost.
        for day in sorted(by_day.keys() | snapshots.keys() | digests.keys()):
            written = by_day.get(day, [])
            self._settled.discard(day)
            patterns = self.book.patterns(written)
            ids = self._day(day).write(written, patterns, snapshots[day], digests[day])
            self.events += len(written)
            if written:
                self._indexer.wake(_path(self.folder, day))
            self.untold += tell(self.listeners, day, ids, written, patterns)

    def _day(self, day: int) -> Day:
        """The file of a day to be written, on the writer's thread."""
        held = self._days.pop(day, None) or Day(_path(self.folder, day))
        self._days[day] = held
        if len(self._days) > MOST_WRITTEN:
            self._days.pop(next(iter(self._days))).close()
            self._settled.intersection_update(self._days)
        return held

    def _settle(self, now: int) -> None:
        """Brings what was written of days that are over into the one file of each; what waits beside it would stay."""
        over = [day for day in self._days if day not in self._settled and (day + 1) * DAY < now]
        for day in over:
            if self._days[day].settle(waits=False):
                self._settled.add(day)
                self._indexer.rest(_path(self.folder, day))

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
                found.append(day_of(path.stem))
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
            for row in DaySearch(day, file, self.lookups).newest_first(search, at, limit + 1 - len(found)):
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
                found = DaySearch(day, file, self.lookups).kept_bars(search.where, first, last, start, width)
                edges = [(lo, first), (last, hi)]
            else:
                found, edges = [], [(lo, hi)]
            for a, b in edges:
                if a < b and a < (day + 1) * DAY and b > day * DAY:
                    found += DaySearch(day, file, self.lookups).counted(
                        replace(search, start=Nanos(a), end=Nanos(b)), start, width
                    )
            for at, severity, n in found:
                bars[severity][at] += n
        return bars

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

    def snapshots_over(self, host: str, kind: str, start: Nanos, end: Nanos, most: int) -> list[tuple[int, Any]]:
        """Moments and contents of what a host kept, oldest first; where there is more, evenly over the span."""
        asked = "FROM snapshot WHERE host = ? AND kind = ? AND time"
        moments: list[tuple[int, int]] = []
        for day, file in self.existing(start, end):
            rows = file.read(f"SELECT time {asked} >= ? AND time < ?", [host, kind, start, end])
            moments.extend((time, day) for (time,) in rows)
        chosen = sorted(moments)[:: max(1, -(-len(moments) // most))]
        found: list[tuple[int, Any]] = []
        for day, file in self.existing(start, end):
            for piece in in_pieces([time for time, of in chosen if of == day]):
                marks = ",".join("?" * len(piece))
                rows = file.read(f"SELECT time, data {asked} IN ({marks})", [host, kind, *piece])
                found.extend((t, json.loads(zlib.decompress(data))) for t, data in rows)
        return sorted(found, key=lambda one: one[0])

    # --- keeping

    @property
    def keep_days(self) -> float:
        """Days after which no event is kept."""
        return self._keeping.longest

    def keep(self, rules: Sequence[KeepRule], days: float, most_bytes: int | None = None) -> None:
        """Keeps events so long from the next `forget` on."""
        self._keeping = Keeping(tuple(rules), days, most_bytes)

    def forget(self, now: int) -> list[str]:
        """Removes the files of days older than are kept, and the oldest of those that take too much; answers their
        names. Of younger days, what a filter says is over goes."""
        gone = []
        days = self.days()
        too_much = max(0, self.size() - self._keeping.most_bytes) if self._keeping.most_bytes is not None else 0
        back = self.brought_back()
        for day in days:
            old = (day + 1) * DAY < now - int(self.keep_days * DAY) or (too_much > 0 and day != days[-1])
            if not old or day in back or not self.may_forget(day):
                continue
            too_much -= self.size_of(day)
            self.drop(day)
            gone.append(day_name(day))
        self._writer.run(lambda: self._settle(now))
        return gone

    def drop(self, day: int) -> None:
        """Removes a day."""
        self._writer.run(lambda: self._put_away(day))
        for path in self.folder.glob(f"{day_name(day)}.*db*"):
            path.unlink(missing_ok=True)
        self._pin(day).unlink(missing_ok=True)

    def _put_away(self, day: int) -> None:
        """Closes everything that is open of a day, on the writer's thread."""
        _close(self._days.pop(day, None))
        self._leases.drop(day)
        self._indexer.drop(_path(self.folder, day))

    def thin(self, now: int) -> int:
        """Removes what filters say is over, of one day at a time, in small steps between other writes. Answers how
        many events are gone."""
        keeping, back = self._keeping, self.brought_back()
        for day in self.days():
            if day in back:
                continue
            # All of a day's events are at least this old; it is looked at again once it is another hour older.
            age = (now - (day + 1) * DAY) / DAY
            condition = keeping.over(age, self.lookups)
            done, at_age = self._kept_to.get(day, (None, 0.0))
            if condition is None or (done == keeping and age - at_age < 1 / 24):
                continue
            total = 0
            while gone := self._writer.run(partial(self._remove, day, *condition)):
                self._indexer.forget(_path(self.folder, day), gone)
                total += len(gone)
            if total:
                self._writer.run(lambda day=day: self._day(day).shrink())  # type: ignore[misc]
            self._kept_to[day] = (keeping, age)
            return total
        return 0

    def _remove(self, day: int, condition: str, parameters: Sequence[Any]) -> Sequence[Any]:
        return self._day(day).remove(condition, parameters)

    # --- copying out and bringing back

    def mark(self, day: int) -> int:
        """What tells the file of a day from another of the same day."""
        return self._writer.run(lambda: self._day(day).mark())

    def count(self, day: int) -> int:
        """How many events there are of a day."""
        return sum(
            int(file.read("SELECT count(*) FROM event", [])[0][0])
            for _, file in self.existing(day * DAY, (day + 1) * DAY)
        )

    def copy_out(self, day: int, path: Path) -> None:
        """Copies the file of a day as it is at one moment into an empty file."""
        with self._leases.of(day, _path(self.folder, day)) as file:
            file.copy_to(path)

    def take_back(self, day: int, fresh: Path) -> None:
        """Makes a file that was copied out the file of its day again; it is kept until it is dropped."""
        self._pin(day).touch(mode=0o600)
        bring_up(fresh, self.book)
        self._writer.run(lambda: self._take_back(day, fresh))
        self._indexer.wake(_path(self.folder, day))

    def _take_back(self, day: int, fresh: Path) -> None:
        path = _path(self.folder, day)
        if path.exists():
            self._join(day, fresh)
        self._put_away(day)
        for old in (words_path(path), words_path(fresh)):
            for suffix in ("", "-wal", "-shm"):
                old.with_name(old.name + suffix).unlink(missing_ok=True)
        for suffix in ("-wal", "-shm"):
            path.with_name(path.name + suffix).unlink(missing_ok=True)
        fresh.replace(path)

    def _join(self, day: int, fresh: Path) -> None:
        """Writes what came of a day since it was removed into the file that comes back."""
        whole = Day(fresh)
        try:
            with self._leases.of(day, _path(self.folder, day)) as file:
                rows = file.read(f"SELECT {COLUMNS} FROM event ORDER BY time, id", [])
                kept = file.read("SELECT time, host, kind, data FROM snapshot", [])
            events = [NewEvent(*row[1:7]) for row in rows]
            whole.write(events, [row[7] for row in rows], [Snapshot(*row) for row in kept], [])
            whole.settle()
        finally:
            whole.close()

    def brought_back(self) -> set[int]:
        """The days that were brought back, and are kept until they are dropped."""
        return {day for day in self.days() if self._pin(day).exists()}

    def _pin(self, day: int) -> Path:
        return self.folder / f"{day_name(day)}.brought-back"

    def erase(self, host: str) -> int:
        """Removes everything of a host, day by day, in small steps between other writes. Answers how many events."""
        total = 0
        for day in self.days():
            while gone := self._writer.run(lambda day=day: self._day(day).erase(host)):  # type: ignore[misc]
                self._indexer.forget(_path(self.folder, day), gone)
                total += len(gone)
        return total

    def size(self) -> int:
        return sum(_bytes(path) for path in self.folder.glob("*.db*"))

    def size_of(self, day: int) -> int:
        return sum(_bytes(path) for path in self.folder.glob(f"{day_name(day)}.*db*"))

    def close(self) -> None:
        self._writer.close()
        for day in self._days.values():
            day.close()
        self._days.clear()
        self._leases.close()
        self._indexer.close()
        self.book.close()


def _path(folder: Path, day: int) -> Path:
    return folder / f"{day_name(day)}.db"


def _bytes(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        # It was removed in the meantime.
        return 0


def _close(day: Day | None) -> None:
    if day is not None:
        day.close()


def day_of(name: str) -> int:
    """Days since 1970 of a day like `2026-11-23`. Raises ValueError for anything else."""
    return int(datetime.fromisoformat(name + "T00:00:00+00:00").timestamp()) // 86_400


def day_name(day: int) -> str:
    return datetime.fromtimestamp(day * 86_400, UTC).strftime("%Y-%m-%d")


def _by_day(events: list[NewEvent]) -> Iterator[tuple[int, list[NewEvent]]]:
    """Events in the order of their times, day by day."""
    at = 0
    while at < len(events):
        day = events[at].time // DAY
        end = bisect_left(events, (day + 1) * DAY, at, key=itemgetter(0))
        yield day, events[at:end]
        at = end


def _home(delivery: Delivery) -> int:
    """The day that remembers a delivery: the newest it touches."""
    times = [e.time for e in delivery.events] + [s.time for s in delivery.snapshots]
    return max(times, default=0) // DAY


def read_event(day: int, row: Sequence[Any]) -> Event:
    """An event as it is answered, from what `COLUMNS` reads."""
    number, time, host, severity, source, body, attributes, pattern = row
    return Event(
        id=f"{day}-{number}",
        time=rfc3339(seconds_of(time)),
        host=host,
        severity=SEVERITIES[severity],
        source=source,
        body=body,
        attributes=json.loads(attributes) if attributes else {},
        pattern=str(pattern) if pattern else None,
    )


def _by_time(events: list[Event]) -> list[Event]:
    """Ids keep the order of time to within a minute; within a page it is exact."""
    return sorted(events, key=lambda e: e.time, reverse=True)
