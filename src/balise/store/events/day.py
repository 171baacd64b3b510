"""One day of events: a table, the names and attributes that repeat, and counts by minute and by hour."""

from __future__ import annotations

import json
import secrets
import zlib
from bisect import bisect_left
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pydantic_core import to_json
from sqlalchemy import Connection

from balise.core.events.new_event import NewEvent
from balise.core.events.sign_ins import OUTCOMES, SignInReader
from balise.core.moments import NS, Nanos
from balise.store.database import BUSY_MS, insert_rows, open_engine
from balise.store.events.attribute_sets import AttributeSets
from balise.store.events.index import WordIndex, words_path
from balise.store.events.names import Names
from balise.store.events.sqlfilter import FUNCTIONS

FORM = 2
"""How the file is laid out; `upgrade` brings older ones up to it."""
_TABLES = (
    "CREATE TABLE IF NOT EXISTS host (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE)",
    "CREATE TABLE IF NOT EXISTS source (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE)",
    "CREATE TABLE IF NOT EXISTS kept (id INTEGER PRIMARY KEY, attributes TEXT NOT NULL)",
    # Attributes are JSON, or the number of a set that is kept once: the column has no type of its own.
    "CREATE TABLE IF NOT EXISTS event (id INTEGER PRIMARY KEY, time INTEGER NOT NULL, host INTEGER NOT NULL, "
    "severity INTEGER NOT NULL, source INTEGER NOT NULL, pattern INTEGER NOT NULL, body TEXT NOT NULL, attributes)",
    "CREATE TABLE IF NOT EXISTS minute (minute INTEGER NOT NULL, severity INTEGER NOT NULL, "
    "count INTEGER NOT NULL, first INTEGER, last INTEGER, PRIMARY KEY (minute, severity)) WITHOUT ROWID",
    "CREATE TABLE IF NOT EXISTS said (hour INTEGER NOT NULL, pattern INTEGER NOT NULL, severity INTEGER NOT NULL, "
    "source INTEGER NOT NULL, host INTEGER NOT NULL, count INTEGER NOT NULL, last INTEGER NOT NULL, "
    "PRIMARY KEY (hour, pattern, severity, source, host)) WITHOUT ROWID",
    "CREATE TABLE IF NOT EXISTS sign_in (id INTEGER PRIMARY KEY, time INTEGER NOT NULL, host TEXT NOT NULL, "
    "account TEXT NOT NULL, address TEXT NOT NULL, outcome INTEGER NOT NULL, how TEXT NOT NULL, detail TEXT NOT NULL, "
    "count INTEGER NOT NULL)",
    "CREATE INDEX IF NOT EXISTS late ON event (time) WHERE id < 0",
    "CREATE TABLE IF NOT EXISTS snapshot (id INTEGER PRIMARY KEY, time INTEGER NOT NULL, host TEXT NOT NULL, "
    "kind TEXT NOT NULL, data BLOB NOT NULL)",
    "CREATE INDEX IF NOT EXISTS snapshot_of ON snapshot (host, kind, time)",
    "CREATE TABLE IF NOT EXISTS seen (digest BLOB PRIMARY KEY) WITHOUT ROWID",
)
AT_ONCE = 2000
"""Events that are read at once."""
_EVENT = "INSERT INTO event (id, time, host, severity, source, pattern, body, attributes) VALUES"
_MINUTE = "INSERT INTO minute (minute, severity, count, first, last) VALUES"
_MINUTE_AGAIN = (
    "ON CONFLICT (minute, severity) DO UPDATE SET count = count + excluded.count, "
    "first = coalesce(first, excluded.first), last = coalesce(excluded.last, last)"
)
_SAID = "INSERT INTO said (hour, pattern, severity, source, host, count, last) VALUES"
_SAID_AGAIN = (
    "ON CONFLICT (hour, pattern, severity, source, host) DO UPDATE SET count = count + excluded.count, "
    "last = excluded.last"
)
_NEWEST = (
    "WITH last AS (SELECT min(first) AS low, max(last) AS high FROM minute "
    "WHERE minute = (SELECT max(minute) FROM minute WHERE last IS NOT NULL)) "
    "SELECT max(time) FROM event, last WHERE id BETWEEN low AND high"
)
"""The newest time, from the last minute that has events in the order of time."""
_SNAPSHOT = "INSERT INTO snapshot (time, host, kind, data) VALUES"
_SIGN_IN = "INSERT INTO sign_in (id, time, host, account, address, outcome, how, detail, count) VALUES"
MINUTE, HOUR = 60 * NS, 3600 * NS
LATE = 60 * NS
"""An event this much older than the newest before it is late: it gets a negative id, so that positive ids stay in
the order of time and the newest matches are found without sorting all of them."""


@dataclass(frozen=True, slots=True)
class Snapshot:
    """What a host kept besides its events at a moment; `data` is compressed JSON, or text that is told to be JSON and
    is compressed when it is written."""

    time: Nanos
    host: str
    kind: str
    data: bytes | str

    def packed(self) -> bytes:
        """Compressed JSON; text that is none is kept as that text."""
        if isinstance(self.data, bytes):
            return self.data
        try:
            json.loads(self.data)
        except (ValueError, RecursionError):
            return pack_snapshot(self.data)
        return zlib.compress(self.data.encode(), 6)


def pack_snapshot(content: Any) -> bytes:
    """The content of a snapshot as it is kept."""
    return zlib.compress(to_json(content), 6)


Row = tuple[int, int, int, int, int, int, str, str | int | None]
"""Id, time, host, severity, source, pattern, body and attributes as they are kept."""


class Day:
    """The file of one day as its one writer holds it."""

    def __init__(self, path: Path) -> None:
        self.path = path
        if not path.exists():
            _make(path)
        self._sign_ins = SignInReader()
        self._engine = open_engine(path, cache_mib=8, readers=1, functions=FUNCTIONS)
        self._writing = self._engine.connect()
        connection = self._writing
        self._hosts, self._sources, self._sets = Names("host"), Names("source"), AttributeSets()
        top = connection.exec_driver_sql("SELECT max(id) FROM event").scalar_one()
        bottom = connection.exec_driver_sql("SELECT min(id) FROM event").scalar_one()
        # A number that the index knows is never given again, even if its event was erased.
        index = WordIndex(path)
        low, high = index.reached()
        index.close()
        self._next, self._next_late = max(0, top or 0, high) + 1, min(0, bottom or 0, low) - 1
        self._newest = connection.exec_driver_sql(_NEWEST).scalar_one() or 0

    def write(
        self,
        events: Sequence[NewEvent],
        patterns: Sequence[int],
        snapshots: Sequence[Snapshot],
        digests: Sequence[bytes],
    ) -> list[int]:
        """Writes all of it in one transaction; answers the ids of the events, which come in the order of their times.
        `patterns` has one for each event."""
        connection = self._writing
        before = (self._next, self._next_late, self._newest)
        ids = self._numbered(events)
        try:
            if events:
                self._insert(connection, events, patterns, ids)
            insert_rows(connection, _SNAPSHOT, [(s.time, s.host, s.kind, s.packed()) for s in snapshots])
            insert_rows(connection, "INSERT OR IGNORE INTO seen (digest) VALUES", [(d,) for d in digests])
            connection.commit()
        except Exception:
            connection.rollback()
            self._next, self._next_late, self._newest = before
            for learnt in (self._hosts, self._sources, self._sets):
                learnt.forget()
            raise
        return ids

    def _numbered(self, events: Sequence[NewEvent]) -> list[int]:
        if events and events[0].time >= self._newest - LATE:
            ids = list(range(self._next, self._next + len(events)))
            self._next += len(events)
            self._newest = max(self._newest, events[-1].time)
            return ids
        ids = []
        for event in events:
            if event.time < self._newest - LATE:
                ids.append(self._next_late)
                self._next_late -= 1
                continue
            ids.append(self._next)
            self._next += 1
            self._newest = max(self._newest, event.time)
        return ids

    def _insert(
        self, connection: Connection, events: Sequence[NewEvent], patterns: Sequence[int], ids: Sequence[int]
    ) -> None:
        times, hosts, severities, sources, bodies, attributes = zip(*events, strict=True)
        host = list(map(self._hosts.numbers(connection, hosts).__getitem__, hosts))
        source = list(map(self._sources.numbers(connection, sources).__getitem__, sources))
        known, kept = self._sets.known, self._sets.kept
        held = [known.get(one) or kept(connection, one) for one in attributes]
        rows = list(zip(ids, times, host, severities, source, patterns, bodies, held, strict=True))
        insert_rows(connection, _EVENT, rows)
        insert_rows(connection, _MINUTE, list(_bars(times, severities, ids)), _MINUTE_AGAIN)
        insert_rows(connection, _SAID, list(_hours(rows)), _SAID_AGAIN)
        signed = [
            (ids[at], s.time, s.host, s.account, s.address, OUTCOMES.index(s.outcome), s.how, s.detail, s.count)
            for at, s in self._sign_ins.of(events, patterns)
        ]
        insert_rows(connection, _SIGN_IN, signed)

    def copy(self, ids: Sequence[int], events: Sequence[NewEvent], patterns: Sequence[int]) -> None:
        """Writes events that have numbers already, in their order, into a new file."""
        self._insert(self._writing, events, patterns, ids)
        self._writing.commit()

    def take_over(self, old: Connection) -> None:
        """Copies what stands beside the events of an older file, and brings all of it into this one file."""
        for table, columns in (("snapshot", "time, host, kind, data"), ("seen", "digest")):
            marks = ", ".join("?" for _ in columns.split(", "))
            found = old.exec_driver_sql(f"SELECT {columns} FROM {table}")
            while rows := found.fetchmany(AT_ONCE):
                self._writing.exec_driver_sql(
                    f"INSERT OR IGNORE INTO {table} ({columns}) VALUES ({marks})", [tuple(row) for row in rows]
                )
        self._writing.commit()
        self.settle()

    def settle(self, *, waits: bool = True) -> bool:
        """Brings all that was written into the one file; whether that was possible. One that does not wait for readers
        leaves it for another time."""
        self._writing.exec_driver_sql(f"PRAGMA busy_timeout={BUSY_MS if waits else 0}")
        try:
            return not self._writing.exec_driver_sql("PRAGMA wal_checkpoint(TRUNCATE)").one()[0]
        finally:
            self._writing.exec_driver_sql(f"PRAGMA busy_timeout={BUSY_MS}")

    def erase(self, host: str, most: int = 5000) -> list[Row]:
        """Removes events and snapshots of a host, at most so many in one transaction. Answers what is gone."""
        rows = self.remove("host = (SELECT id FROM host WHERE name = ?)", [host], most)
        self._writing.exec_driver_sql("DELETE FROM snapshot WHERE host = ?", (host,))
        self._writing.commit()
        return rows

    def remove(self, condition: str, parameters: Sequence[Any], most: int = 5000) -> list[Row]:
        """Removes events that meet a condition, at most so many in one transaction. Answers what is gone."""
        connection = self._writing
        try:
            found = connection.exec_driver_sql(
                f"SELECT id, time, host, severity, source, pattern, body, NULL FROM event WHERE {condition} LIMIT ?",
                (*parameters, most),
            )
            rows: list[Row] = [tuple(row) for row in found]
            self._remove(connection, rows)
            connection.commit()
        except Exception:
            connection.rollback()
            raise
        return rows

    @staticmethod
    def _remove(connection: Connection, rows: Sequence[Row]) -> None:
        minutes = Counter((row[1] // MINUTE, row[3]) for row in rows)
        hours = Counter(
            (t // HOUR, pattern, severity, source, host) for _, t, host, severity, source, pattern, *_ in rows
        )
        if rows:
            numbers = [(number,) for number, *_ in rows]
            connection.exec_driver_sql("DELETE FROM event WHERE id = ?", numbers)
            connection.exec_driver_sql("DELETE FROM sign_in WHERE id = ?", numbers)
            connection.exec_driver_sql(
                "UPDATE minute SET count = count - ? WHERE minute = ? AND severity = ?",
                [(count, *key) for key, count in minutes.items()],
            )
            connection.exec_driver_sql(
                "UPDATE said SET count = count - ? "
                "WHERE hour = ? AND pattern = ? AND severity = ? AND source = ? AND host = ?",
                [(count, *key) for key, count in hours.items()],
            )
            connection.exec_driver_sql("DELETE FROM said WHERE count <= 0")

    def mark(self) -> int:
        """What tells this file from another of the same day."""
        number: int = self._writing.exec_driver_sql("PRAGMA application_id").scalar_one()
        self._writing.rollback()
        if number == 0:
            # An earlier version made the file.
            self._writing.exec_driver_sql(_mark())
            self._writing.commit()
            return self.mark()
        return number

    def shrink(self) -> None:
        """Gives back the room of what was removed, if it is a quarter of the file or more."""
        pages = self._writing.exec_driver_sql("PRAGMA page_count").scalar_one()
        free = self._writing.exec_driver_sql("PRAGMA freelist_count").scalar_one()
        self._writing.rollback()
        if free * 4 > pages:
            self._writing.exec_driver_sql("VACUUM")

    def seen(self, digest: bytes) -> bool:
        """Whether a delivery of this digest was written before."""
        row = self._writing.exec_driver_sql("SELECT 1 FROM seen WHERE digest = ?", (digest,)).fetchone()
        self._writing.rollback()
        return row is not None

    def close(self) -> None:
        self._writing.close()
        self._engine.dispose()


def _make(path: Path) -> None:
    """An empty file of a day: whoever looks at it finds it whole."""
    fresh = path.with_suffix(".made")
    fresh.unlink(missing_ok=True)
    engine = open_engine(fresh, readers=1)
    with engine.connect() as connection:
        connection.exec_driver_sql(f"PRAGMA user_version = {FORM}")
        connection.exec_driver_sql(_mark())
        for statement in _TABLES:
            connection.exec_driver_sql(statement)
        connection.commit()
        connection.exec_driver_sql("PRAGMA wal_checkpoint(TRUNCATE)")
    engine.dispose()
    fresh.replace(path)


def _mark() -> str:
    """Gives a file a number that tells it from another of the same day."""
    return f"PRAGMA application_id = {secrets.randbelow((1 << 31) - 1) + 1}"


def _slices(times: Sequence[int], width: int) -> Iterator[tuple[int, slice]]:
    """Steps of a width that times are in, in their order, each with where those are."""
    at = 0
    while at < len(times):
        step = times[at] // width
        end = bisect_left(times, (step + 1) * width, at)
        if end == at:
            # An older file may hold times that are out of order: one by one, then.
            end = at + 1
        yield step, slice(at, end)
        at = end


def _bars(times: Sequence[int], severities: Sequence[int], ids: Sequence[int]) -> Iterator[tuple[int | None, ...]]:
    """Counts by minute and severity, with the first and last id of those that are in the order of time."""
    for minute, part in _slices(times, MINUTE):
        prompt = [(s, i) for s, i in zip(severities[part], ids[part], strict=True) if i > 0]
        last, first = dict(prompt), dict(reversed(prompt))
        for severity, count in Counter(severities[part]).items():
            yield minute, severity, count, first.get(severity), last.get(severity)


def _hours(rows: Sequence[Row]) -> Iterator[tuple[int, ...]]:
    """Counts by hour, pattern, severity, source and host, with the last id."""
    for hour, part in _slices([row[1] for row in rows], HOUR):
        some = rows[part]
        # A pattern is of one source and severity, but for what is like no others.
        keys = [row[5] << 32 | row[2] if row[5] else (row[2], row[3], row[4]) for row in some]
        last = dict(zip(keys, some, strict=True))
        for key, count in Counter(keys).items():
            number, _, host, severity, source, pattern, _, _ = last[key]
            yield hour, pattern, severity, source, host, count, number


class DayReader:
    """The file of one day as those who read it share it; connections of its own, none of the writer's.

    `index` brings the words of the day up to what is written, and is called before they are asked.
    """

    def __init__(self, path: Path, index: Callable[[], None]) -> None:
        self._engine = open_engine(path, cache_mib=4, readers=4, functions=FUNCTIONS, attached={"ix": words_path(path)})
        self.index = index

    def ids_between(self, start: int, end: int) -> tuple[int, int]:
        """The lowest and highest positive id of events in [start, end), to the minute."""
        found = self.read(
            "SELECT min(first), max(last) FROM minute WHERE minute >= ? AND minute <= ?",
            (start // MINUTE, (end - 1) // MINUTE),
        )
        low, high = found[0]
        return (low, high) if low is not None else (1, 0)

    def read(self, statement: str, parameters: Sequence[Any]) -> list[Any]:
        with self._engine.connect() as connection:
            return list(connection.exec_driver_sql(statement, tuple(parameters)))

    def copy_to(self, path: Path) -> None:
        """Copies the file as it is at one moment, while others write, into an empty file."""
        with self._engine.connect() as connection:
            connection.exec_driver_sql("VACUUM main INTO ?", (str(path),))

    def close(self) -> None:
        self._engine.dispose()
