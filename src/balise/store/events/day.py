"""One day of events: a table, a contentless full-text index, and counts by minute."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, NamedTuple

from sqlalchemy import Connection

from balise.core.moments import NS, Nanos
from balise.store.database import open_engine
from balise.store.events.sqlfilter import FUNCTIONS

_TABLES = (
    "CREATE TABLE IF NOT EXISTS event (id INTEGER PRIMARY KEY, time INTEGER NOT NULL, host TEXT NOT NULL, "
    "severity INTEGER NOT NULL, source TEXT NOT NULL, body TEXT NOT NULL, attributes TEXT)",
    "CREATE VIRTUAL TABLE IF NOT EXISTS words USING fts5(body, tags, content='', columnsize=0, "
    'tokenize="unicode61 remove_diacritics 2")',
    "CREATE TABLE IF NOT EXISTS minute (minute INTEGER NOT NULL, severity INTEGER NOT NULL, "
    "count INTEGER NOT NULL, first INTEGER, last INTEGER, PRIMARY KEY (minute, severity)) WITHOUT ROWID",
    "CREATE INDEX IF NOT EXISTS late ON event (time) WHERE id < 0",
    "CREATE TABLE IF NOT EXISTS snapshot (id INTEGER PRIMARY KEY, time INTEGER NOT NULL, host TEXT NOT NULL, "
    "kind TEXT NOT NULL, data BLOB NOT NULL)",
    "CREATE INDEX IF NOT EXISTS snapshot_of ON snapshot (host, kind, time)",
    "CREATE TABLE IF NOT EXISTS seen (digest BLOB PRIMARY KEY) WITHOUT ROWID",
)
_EVENT = "INSERT INTO event (id, time, host, severity, source, body, attributes) VALUES (?, ?, ?, ?, ?, ?, ?)"
_WORDS = "INSERT INTO words (rowid, body, tags) VALUES (?, ?, ?)"
_MINUTE = (
    "INSERT INTO minute (minute, severity, count, first, last) VALUES (?, ?, ?, ?, ?) "
    "ON CONFLICT (minute, severity) DO UPDATE SET count = count + excluded.count, "
    "first = coalesce(first, excluded.first), last = coalesce(excluded.last, last)"
)
_NEWEST = (
    "WITH last AS (SELECT min(first) AS low, max(last) AS high FROM minute "
    "WHERE minute = (SELECT max(minute) FROM minute WHERE last IS NOT NULL)) "
    "SELECT max(time) FROM event, last WHERE id BETWEEN low AND high"
)
"""The newest time, from the last minute that has events in the order of time."""
_SNAPSHOT = "INSERT INTO snapshot (time, host, kind, data) VALUES (?, ?, ?, ?)"
MINUTE = 60 * NS
LATE = 60 * NS
"""An event this much older than the newest before it is late: it gets a negative id, so that positive ids stay in
the order of time and the newest matches are found without sorting all of them."""


class NewEvent(NamedTuple):
    """`severity` is the numerical code of RFC 5424, `attributes` JSON or None."""

    time: Nanos
    host: str
    severity: int
    source: str
    body: str
    attributes: str | None = None


@dataclass(frozen=True, slots=True)
class Snapshot:
    """What a host kept besides its events at a moment; `data` is compressed JSON."""

    time: Nanos
    host: str
    kind: str
    data: bytes


def host_tag(host: str) -> str:
    """A host's name as one word of the index."""
    return "h" + host.lower().encode().hex()


def match_expression(text: str, hosts: Sequence[str] | None) -> str | None:
    """What FTS5 is asked: every word of the text, quoted ones as a phrase, one that ends in * as a beginning."""
    terms: list[str] = []
    for phrase, word in re.findall(r'"([^"]*)"|(\S+)', text):
        wanted = re.findall(r"\w+", phrase or word)
        if wanted:
            terms.append('body:"' + " ".join(wanted) + '"' + ("*" if word.endswith("*") else ""))
    if hosts is not None:
        terms.append("tags:(" + " OR ".join(f'"{host_tag(h)}"' for h in hosts[:200]) + ")")
    return " AND ".join(terms) if terms else None


class Day:
    """The file of one day as its one writer holds it."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._engine = open_engine(path, cache_mib=4, readers=1)
        self._writing = self._engine.connect()
        connection = self._writing
        for statement in _TABLES:
            connection.exec_driver_sql(statement)
        connection.commit()
        top, bottom = connection.exec_driver_sql("SELECT max(id), min(id) FROM event").one()
        self._next, self._next_late = max(0, top or 0) + 1, min(0, bottom or 0) - 1
        self._newest = connection.exec_driver_sql(_NEWEST).scalar_one() or 0

    def write(self, events: Sequence[NewEvent], snapshots: Sequence[Snapshot], digests: Sequence[bytes]) -> list[int]:
        """Writes all of it in one transaction; answers the ids of the events."""
        connection = self._writing
        before = (self._next, self._next_late, self._newest)
        ids = self._numbered(events)
        try:
            if events:
                self._insert(connection, events, ids)
            if snapshots:
                connection.exec_driver_sql(_SNAPSHOT, [(s.time, s.host, s.kind, s.data) for s in snapshots])
            if digests:
                connection.exec_driver_sql("INSERT OR IGNORE INTO seen (digest) VALUES (?)", [(d,) for d in digests])
            connection.commit()
        except Exception:
            connection.rollback()
            self._next, self._next_late, self._newest = before
            raise
        return ids

    def _numbered(self, events: Sequence[NewEvent]) -> list[int]:
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

    @staticmethod
    def _insert(connection: Connection, events: Sequence[NewEvent], ids: Sequence[int]) -> None:
        rows = [(i, *e) for i, e in zip(ids, events, strict=True)]
        connection.exec_driver_sql(_EVENT, rows)
        tags = {host: host_tag(host) for host in {e.host for e in events}}
        connection.exec_driver_sql(_WORDS, [(row[0], row[5], tags[row[2]]) for row in rows])
        counts: dict[tuple[int, int], list[int | None]] = {}
        for number, time, _, severity, *_ in rows:
            held = counts.setdefault((time // MINUTE, severity), [0, None, None])
            held[0] = (held[0] or 0) + 1
            if number > 0:
                held[1] = number if held[1] is None else held[1]
                held[2] = number
        connection.exec_driver_sql(_MINUTE, [(*key, *held) for key, held in counts.items()])

    def erase(self, host: str, most: int = 5000) -> int:
        """Removes events and snapshots of a host, at most so many in one transaction. Answers how many are gone."""
        connection = self._writing
        try:
            rows = connection.exec_driver_sql(
                "SELECT id, time, severity, body FROM event WHERE host = ? LIMIT ?", (host, most)
            ).fetchall()
            tag = host_tag(host)
            # A contentless index forgets a row when it is told again what it holds.
            gone = [("delete", number, body, tag) for number, _, _, body in rows]
            counts: dict[tuple[int, int], int] = {}
            for _, time, severity, _ in rows:
                counts[(time // MINUTE, severity)] = counts.get((time // MINUTE, severity), 0) + 1
            if rows:
                connection.exec_driver_sql("INSERT INTO words (words, rowid, body, tags) VALUES (?, ?, ?, ?)", gone)
                connection.exec_driver_sql("DELETE FROM event WHERE id = ?", [(number,) for number, *_ in rows])
                connection.exec_driver_sql(
                    "UPDATE minute SET count = count - ? WHERE minute = ? AND severity = ?",
                    [(count, *key) for key, count in counts.items()],
                )
            connection.exec_driver_sql("DELETE FROM snapshot WHERE host = ?", (host,))
            connection.commit()
        except Exception:
            connection.rollback()
            raise
        return len(rows)

    def seen(self, digest: bytes) -> bool:
        """Whether a delivery of this digest was written before."""
        row = self._writing.exec_driver_sql("SELECT 1 FROM seen WHERE digest = ?", (digest,)).fetchone()
        self._writing.rollback()
        return row is not None

    def close(self) -> None:
        self._writing.close()
        self._engine.dispose()


class DayReader:
    """The file of one day as those who read it share it; connections of its own, none of the writer's."""

    def __init__(self, path: Path) -> None:
        self._engine = open_engine(path, cache_mib=4, readers=4, functions=FUNCTIONS)

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

    def close(self) -> None:
        self._engine.dispose()
