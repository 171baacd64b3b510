"""Verifying series.db: that every block and matrix reads back as it was written."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from balise.api.spans import rfc3339
from balise.core.moments import seconds_of
from balise.core.series.codec import CodecError, decode_block, decode_times
from balise.store.checks.finding import RESTORE, Finding, damage
from balise.store.database import looked_at
from balise.store.progress import Progress
from balise.store.series.matrices import DAY

FIELDS = ("low", "high", "total", "count", "last", "seen", "extra")
_BLOCKS = "SELECT id, host, first, last, low_series, high_series, samples, series, times, data FROM block ORDER BY id"
_MATRICES = f"SELECT id, tier, metric, day, steps, series, {', '.join(FIELDS)} FROM matrix ORDER BY id"
_INBOX = (
    "SELECT inbox.seq, length(times), length(points), length(layout.series) FROM inbox "
    "LEFT JOIN layout ON layout.id = inbox.layout"
)
BAD = (ValueError, TypeError, IndexError, CodecError)


@dataclass(frozen=True)
class Unreadable:
    """A row of `block` or `matrix` that cannot be read."""

    table: str
    number: int
    what: str


class SeriesCheck:
    """Looks at a file as of one moment. `unreadable` are then the rows that cannot be read."""

    def __init__(self, path: Path, progress: Progress) -> None:
        self._path, self._progress = path, progress
        self.unreadable: list[Unreadable] = []
        self.samples = 0

    def findings(self) -> Iterator[Finding]:
        with closing(looked_at(self._path)) as connection:
            connection.execute("BEGIN")
            broken = list(damage(connection, self._path.name, RESTORE))
            yield from broken
            try:
                yield from self._look(connection)
            except sqlite3.DatabaseError as error:
                if not broken:
                    yield Finding(self._path.name, str(error), remedy=RESTORE)

    def _look(self, connection: sqlite3.Connection) -> Iterator[Finding]:
        name = self._path.name
        count = connection.execute("SELECT (SELECT count(*) FROM block) + (SELECT count(*) FROM matrix)").fetchone()[0]
        done = 0
        for table, query, look in (("block", _BLOCKS, self._block), ("matrix", _MATRICES, _matrix)):
            for row in connection.execute(query):
                done += 1
                if done % 500 == 0 or done == count:
                    self._progress(name, done, count)
                try:
                    look(row)
                except BAD as error:
                    self.unreadable.append(Unreadable(table, row[0], f"{_named(row)} cannot be read: {error}"))
        for seq, times, points, series in connection.execute(_INBOX):
            if series is None or points != series or times not in (8, points):
                yield Finding(
                    name, f"row {seq} of the inbox does not fit its series", remedy="it is set aside at the next start"
                )

    def _block(self, row: tuple[Any, ...]) -> None:
        _, _, first, last, low, high, samples, ids_blob, times_blob, data = row
        ids, times, values = np.frombuffer(ids_blob, np.int64), decode_times(times_blob), decode_block(data)
        if values.shape != (len(ids), len(times)) or values.size != samples:
            raise ValueError(f"it has {values.size} points of {samples}")
        if (times[0], times[-1], ids[0], ids[-1]) != (first, last, low, high) or (np.diff(times) <= 0).any():
            raise ValueError("its times or its series are not those that it is found by")
        self.samples += samples


def _matrix(row: tuple[Any, ...]) -> None:
    _, _, _, _, steps, ids_blob, *blobs = row
    ids = np.frombuffer(ids_blob, np.int64)
    for field, blob in zip(FIELDS, blobs, strict=True):
        if blob is not None and decode_block(blob).shape != (len(ids), steps):
            raise ValueError(f"its field {field} is not {len(ids)} series by {steps} steps")


def _named(row: tuple[Any, ...]) -> str:
    if len(row) == len(FIELDS) + 6:
        return f"matrix {row[0]} ({row[1]} s, metric {row[2]}, {rfc3339(seconds_of(row[3] * DAY))[:10]})"
    return f"block {row[0]} (host {row[1]}, {rfc3339(seconds_of(row[2]))} to {rfc3339(seconds_of(row[3]))})"
