"""All series of a data folder as of one moment, read beside the service that writes them."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Iterator, Sequence
from contextlib import closing
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Engine, create_engine, func, select
from sqlalchemy.pool import StaticPool

from balise.core.moments import NS
from balise.store.database import BUSY_MS, looked_at
from balise.store.folders import DataError
from balise.store.series import tables
from balise.store.series.catalogue import Catalogue
from balise.store.series.head import Head
from balise.store.series.inbox import read_row
from balise.store.series.matrices import DAY, LONGEST_RUN
from balise.store.series.reader import Reader

I64 = NDArray[np.int64]
SETTLED = 6 * 3600 * NS
"""By this long after a day has ended, blocks that began in it have ended too."""


class _Held(sqlite3.Connection):
    """A connection whose one transaction lasts as long as itself, so that every question is of the same moment."""

    def cursor(self, *arguments: Any) -> sqlite3.Cursor:  # type: ignore[override]
        return super().cursor(_HeldCursor)

    def commit(self) -> None:
        """Nothing was written."""

    def rollback(self) -> None:
        """Nothing was written."""


class _HeldCursor(sqlite3.Cursor):
    def execute(self, statement: str, *parameters: Any) -> _HeldCursor:
        return self if statement == "BEGIN" else super().execute(statement, *parameters)


def _engine(path: Path) -> Engine:
    def connect() -> sqlite3.Connection:
        connection = sqlite3.connect(path, factory=_Held, timeout=BUSY_MS / 1000, check_same_thread=False)
        connection.isolation_level = None
        connection.execute("PRAGMA query_only=ON")
        connection.execute("PRAGMA temp_store=MEMORY")
        connection.execute("BEGIN DEFERRED")
        return connection

    return create_engine("sqlite://", creator=connect, poolclass=StaticPool)


class SeriesView:
    """`reader` answers as the service does; `hosts` names hosts by their numbers."""

    def __init__(self, folder: Path) -> None:
        """Raises DataError when there is nothing, or it is of another form than this version reads."""
        self.hosts = _hosts(folder / "state.db")
        path = folder / "series.db"
        if not path.exists():
            raise DataError(f"there are no series in {folder}: name a console's data folder with --data")
        self._engine = _engine(path)
        self.catalogue = Catalogue()
        self._head = Head()
        try:
            self._load(path)
        except BaseException:
            self.close()
            raise

    def _load(self, path: Path) -> None:
        with self._engine.connect() as connection:
            form = connection.exec_driver_sql("PRAGMA user_version").scalar_one()
            if form != tables.FORM:
                raise DataError(
                    f"{path} is of form {form}, and this version reads {tables.FORM}: start the console once"
                )
            self.catalogue.load(connection)
            until = select(tables.block.c.host, func.max(tables.block.c.last)).group_by("host")
            sealed_until = dict(tuple(row) for row in connection.execute(until))
            for row in connection.exec_driver_sql("SELECT seq, layout, times, points FROM inbox ORDER BY seq"):
                try:
                    self._head.append(row.seq, read_row(self.catalogue, row.layout, row.times, row.points), 0)
                except (ValueError, LookupError):
                    continue
        self.reader = Reader(
            self._engine,
            catalogue=self.catalogue,
            head=self._head,
            moment=threading.Lock(),
            sealed_until=sealed_until,
        )

    def days(self, tier: str | None) -> list[int]:
        """The days of which there are points, or with a tier its steps, as days since 1970."""
        recent = [np.unique(part // DAY) for _, part in self._recent()]
        with self._engine.connect() as connection:
            if tier is None:
                low, high = connection.exec_driver_sql("SELECT min(first), max(last) FROM block").one()
                kept = range(low // DAY, high // DAY + 1) if low is not None else range(0)
            else:
                query = "SELECT DISTINCT day, max(whole, 1) FROM matrix WHERE tier = ?"
                found = connection.exec_driver_sql(query, (int(tier),))
                kept = [one for day, days in found for one in range(day, day + days)]  # type: ignore[assignment]
        return sorted({*kept, *np.concatenate([np.empty(0, np.int64), *recent]).tolist()})

    def mark(self, day: int, tier: str | None) -> str:
        """What changes whenever something of a day does."""
        start, end = day * DAY, (day + 1) * DAY
        recent = [int(seqs.max()) for seqs, times in self._recent() if ((times >= start) & (times < end)).any()]
        with self._engine.connect() as connection:
            if tier is None:
                query = "SELECT count(*), max(id) FROM block WHERE last >= ? AND last < ?"
                found = connection.exec_driver_sql(query, (start, end + SETTLED)).one()
            else:
                query = (
                    "SELECT count(*), max(id), sum(whole), sum(length(total) + length(count)) FROM matrix "
                    "WHERE tier = ? AND day > ? AND day <= ? AND day + max(whole, 1) > ?"
                )
                found = connection.exec_driver_sql(query, (int(tier), day - LONGEST_RUN, day, day)).one()
        return ":".join(str(part or 0) for part in (*found, max(recent, default=0)))

    def _recent(self) -> Iterator[tuple[I64, I64]]:
        """Of what is not sealed yet the numbers of its rows, and their moments."""
        for stripe in self._head.stripes.values():
            if stripe.rows:
                yield stripe.seqs[: stripe.rows], stripe.times[: stripe.rows]

    def series_of(self, host: int, metrics: Sequence[int]) -> list[int]:
        """The series of a host that are of some metrics."""
        mine = np.array(self.catalogue.of_host(host), np.int64)
        own = self.catalogue.series.metrics_of(mine)
        chosen: list[int] = np.sort(mine[np.isin(own, metrics)]).tolist()
        return chosen

    def close(self) -> None:
        self._engine.dispose()


def _hosts(path: Path) -> dict[int, str]:
    if not path.exists():
        return {}
    with closing(looked_at(path)) as connection:
        return dict(connection.execute("SELECT id, name FROM host"))


def named(view: SeriesView, series: Sequence[int]) -> list[int]:
    """Those of series whose host is known: the others are forgotten."""
    hosts = view.catalogue.series.hosts_of(np.array(series, np.int64)).tolist() if len(series) else []
    return [one for one, host in zip(series, hosts, strict=True) if host in view.hosts]
