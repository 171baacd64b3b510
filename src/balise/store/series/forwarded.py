"""Points in the order in which they came, from where a reader left off: those to be sent on.

What came lately stands row by row in the inbox. A reader that is far behind finds rows there no more, as they were
sealed: then it reads the blocks that were written since it was last abreast of them. Those have again what it had read
before that, so each point is read at least once.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection

from balise.core.series.codec import decode_block, decode_times
from balise.store.series.inbox import read_row
from balise.store.series.store import SEALED_UP_TO, SeriesStore

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
_ENDS = (
    "SELECT coalesce((SELECT max(seq) FROM inbox), 0), coalesce((SELECT value FROM note WHERE name = ?), 0), "
    "coalesce((SELECT max(id) FROM block), 0)"
)
_ROWS = "SELECT seq, layout, times, points FROM inbox WHERE seq > ? ORDER BY seq LIMIT ?"
_BLOCK = "SELECT id, series, times, data FROM block WHERE id > ? ORDER BY id LIMIT 1"
ROWS = 500


class Position(NamedTuple):
    """How far was read: the number of the last row of the inbox, and of the last block."""

    seq: int
    block: int


class Portion(NamedTuple):
    """Numbers of series, nanoseconds and values of some points, [n] each, how far was read with them, and whether there
    may be more at once."""

    series: I64
    times: I64
    values: F64
    position: Position
    more: bool


class Arrived:
    """Reads what came since. Safe to use from several threads."""

    def __init__(self, store: SeriesStore) -> None:
        self._store = store

    def end(self) -> Position:
        """How far everything goes now."""
        with self._looking() as (_, newest, sealed, block):
            return Position(max(newest, sealed), block)

    def waiting(self, position: Position) -> int:
        """How many deliveries came since, some of which may have been sealed."""
        with self._looking() as (_, newest, sealed, _block):
            return max(0, max(newest, sealed) - position.seq)

    def step(self, position: Position, most: int) -> Portion | None:
        """Some points that came since, at least `most` if there are so many; None for no more."""
        with self._looking() as (connection, _, sealed, block):
            if sealed > position.seq and position.block < block:
                return _of_block(connection, position)
            return self._of_rows(connection, position.seq, sealed, block, most)

    @contextmanager
    def _looking(self) -> Iterator[tuple[Connection, int, int, int]]:
        """A view of one moment: the last row, the last that was sealed, and the last block."""
        with self._store.engine.connect() as connection:
            connection.exec_driver_sql("BEGIN")
            newest, sealed, block = connection.exec_driver_sql(_ENDS, (SEALED_UP_TO,)).one()
            yield connection, int(newest), int(sealed), int(block)
            connection.rollback()

    def _of_rows(self, connection: Connection, seq: int, sealed: int, block: int, most: int) -> Portion | None:
        parts: list[tuple[I64, I64, F64]] = []
        count, last, rows = 0, seq, 0
        for row in connection.exec_driver_sql(_ROWS, (seq, ROWS)):
            last = row.seq
            rows += 1
            try:
                batch = read_row(self._store.catalogue, row.layout, row.times, row.points)
            except (ValueError, LookupError):
                # Its series are forgotten, or it will be set aside.
                continue
            width = len(batch.values)
            times = batch.times if len(batch.times) == width else np.repeat(batch.times, width)
            parts.append((batch.layout.series, times, batch.values))
            count += width
            if count >= most:
                break
        if last == seq:
            if sealed <= seq:
                return None
            last = sealed
        # Abreast of everything that was sealed, what blocks hold has been read.
        return _together(parts, Position(last, block), more=count >= most or rows == ROWS)


def _of_block(connection: Connection, position: Position) -> Portion:
    number, ids_blob, times_blob, data = connection.exec_driver_sql(_BLOCK, (position.block,)).one()
    ids, times, values = np.frombuffer(ids_blob, np.int64), decode_times(times_blob), decode_block(data)
    there = ~np.isnan(values.T)
    series = np.broadcast_to(ids, there.shape)[there]
    moments = np.broadcast_to(times[:, None], there.shape)[there]
    return Portion(series, moments, values.T[there], Position(position.seq, number), True)


def _together(parts: list[tuple[I64, I64, F64]], position: Position, *, more: bool) -> Portion:
    none = np.empty(0, np.int64)
    return Portion(
        np.concatenate([none, *(series for series, _, _ in parts)]),
        np.concatenate([none, *(times for _, times, _ in parts)]),
        np.concatenate([none.astype(np.float64), *(values for _, _, values in parts)]),
        position,
        more,
    )
