"""Putting what is not sealed yet into memory again, at a start: many rows of one layout at once."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from sqlalchemy import Connection

from balise.store.series.catalogue import Catalogue
from balise.store.series.door import Door
from balise.store.series.head import Head
from balise.store.series.inbox import read_row
from balise.store.series.layouts import Layout

AT_ONCE = 64 << 20
"""Bytes of rows that are read before they are put into memory."""
FETCHED = 1000
_ROWS = "SELECT seq, layout, times, points FROM inbox ORDER BY seq"
Row = tuple[int, int, bytes, bytes]


@dataclass
class Replayed:
    """The highest number of a row, those that repeat others, and those that cannot be read with why."""

    last: int = 0
    repeated: list[int] = field(default_factory=list)
    bad: list[tuple[int, str]] = field(default_factory=list)


class Replay:
    def __init__(self, catalogue: Catalogue, door: Door, head: Head) -> None:
        self._catalogue = catalogue
        self._door = door
        self._head = head
        self._known: dict[int, Layout] = {}
        self._found = Replayed()

    def run(self, connection: Connection, now: int) -> Replayed:
        """Takes up all rows, as if they came at `now`, unix nanoseconds."""
        for rows in _pieces(connection):
            self._found.last = max(self._found.last, rows[-1][0])
            apart: dict[tuple[int, int, int], list[Row]] = {}
            for row in rows:
                apart.setdefault((row[1], len(row[2]), len(row[3])), []).append(row)
            for (layout, moments, values), own in apart.items():
                if moments != 8 or not self._take_run(layout, values, own, now):
                    for row in own:
                        self._take(row, now)
        return self._found

    def _take_run(self, number: int, size: int, rows: Sequence[Row], now: int) -> bool:
        """Takes rows that each have one moment, all later than what is known of their series; False for others."""
        layout = self._layout(number)
        if layout is None or size != 8 * len(layout.series):
            return False
        times = np.frombuffer(b"".join(row[2] for row in rows), np.int64)
        if not self._door.admit_run(layout, times):
            return False
        values = np.frombuffer(b"".join(row[3] for row in rows), np.float64).reshape(len(rows), -1)
        self._head.append_run(np.array([row[0] for row in rows]), layout, times, values, now)
        return True

    def _layout(self, number: int) -> Layout | None:
        found = self._known.get(number) or self._catalogue.layouts.by_id.get(number)
        if found is None or (number not in self._known and not self._catalogue.series.has(found.series).all()):
            return None
        return self._known.setdefault(number, found)

    def _take(self, row: Row, now: int) -> None:
        seq, layout, times, points = row
        try:
            batch = read_row(self._catalogue, layout, times, points)
        except (ValueError, LookupError) as error:
            self._found.bad.append((seq, str(error)))
            return
        self._door.open()
        new = self._door.admit(batch).batch
        if new is None:
            self._found.repeated.append(seq)
        else:
            self._head.append(seq, new, now)


def _pieces(connection: Connection) -> Iterator[list[Row]]:
    """All rows in order, some at a time."""
    found = connection.exec_driver_sql(_ROWS)
    rows: list[Any] = []
    size = 0
    while some := found.fetchmany(FETCHED):
        rows += some
        size += sum(len(row[2]) + len(row[3]) for row in some)
        if size >= AT_ONCE:
            yield rows
            rows, size = [], 0
    if rows:
        yield rows
