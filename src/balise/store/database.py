"""Opening SQLite through SQLAlchemy the way every Balise database is opened."""

from __future__ import annotations

import errno
import json
import sqlite3
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import chain
from pathlib import Path
from typing import Any, TypeVar

from sqlalchemy import (
    BigInteger,
    Connection,
    Engine,
    Float,
    FromClause,
    SelectBase,
    cast,
    create_engine,
    event,
    func,
    select,
)
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session

BUSY_MS = 15_000
ASKED_AT_ONCE = 1000
"""Values in one question: SQLite takes no more than 32,766."""
ROWS_AT_ONCE = 512
"""Rows of one statement, a power of two: SQLite takes no more than 32,766 values in it."""
PARTS_OF_SECOND = 2.0**22
"""As fine as a double tells unix seconds from 2^30 on."""
T = TypeVar("T")


def in_pieces(values: Sequence[T], size: int = ASKED_AT_ONCE) -> Iterator[Sequence[T]]:
    """Values, so many at once: as many as one question may have, unless another number is given.

    >>> [len(piece) for piece in in_pieces(range(2500))]
    [1000, 1000, 500]
    """
    return (values[start : start + size] for start in range(0, len(values), size))


def insert_rows(
    connection: Connection, words: str, rows: Sequence[Sequence[Any]], after: str = "", most: int = ROWS_AT_ONCE
) -> None:
    """Inserts rows by statements of many: each step of SQLite lets other threads compute, and waits for its turn then.

    `words` are those of a statement up to its `VALUES`, `after` those behind its rows. Statements have as many rows as
    a power of two, `most` at most: preparing one costs more than carrying it out, and what is prepared is kept in
    memory.
    """
    for some in _pieces_of_two(rows, most):
        one = f"({', '.join('?' * len(some[0]))})"
        statement = f"{words} {', '.join([one] * len(some))} {after}"
        connection.exec_driver_sql(statement, tuple(chain.from_iterable(some)))


def insert_into(
    connection: Connection, table: FromClause, rows: Sequence[Mapping[str, Any]], most: int = ROWS_AT_ONCE
) -> None:
    """`insert_rows` of rows by name, all with the same names, into a table."""
    if rows:
        names = list(rows[0])
        words = f"INSERT INTO {table.description} ({', '.join(names)}) VALUES"
        insert_rows(connection, words, [[row[name] for name in names] for row in rows], most=most)


def delete_from(connection: Connection, table: FromClause, column: str, values: Sequence[int]) -> None:
    """Deletes the rows whose column has one of these values, many by one statement as `insert_rows` inserts them."""
    for some in _pieces_of_two(values, ROWS_AT_ONCE):
        held = ", ".join("?" * len(some))
        connection.exec_driver_sql(f"DELETE FROM {table.description} WHERE {column} IN ({held})", tuple(some))  # noqa: S608


def _pieces_of_two(values: Sequence[T], most: int) -> Iterator[Sequence[T]]:
    at = 0
    while at < len(values):
        size = min(most, 1 << (len(values) - at).bit_length() - 1)
        yield values[at : at + size]
        at += size


def rows_together(session: Session, query: SelectBase) -> list[list[Any]]:
    """The rows of a query whose columns are texts, whole numbers and moments (unix seconds, exact from 2004 on) that
    are all there, in its order, read as one: each step of SQLite lets other threads compute, and of ten thousand rows
    that is ten thousand turns to wait for."""
    inner = query.subquery()
    moments = [place for place, one in enumerate(inner.c) if isinstance(one.type, Float)]
    # SQLite writes a number of JSON with fifteen digits, which is not all of a moment.
    exact = [cast(one * PARTS_OF_SECOND, BigInteger) if isinstance(one.type, Float) else one for one in inner.c]
    text = session.scalar(select(func.json_group_array(func.json_array(*exact))).select_from(inner))
    rows: list[list[Any]] = json.loads(text or "[]")
    for place in moments:
        for row in rows:
            row[place] /= PARTS_OF_SECOND
    return rows


def is_full(error: BaseException) -> bool:
    """Whether a write failed because there was no room on the disk."""
    if isinstance(error, OSError):
        return error.errno in (errno.ENOSPC, errno.EDQUOT)
    return isinstance(error, OperationalError) and "is full" in str(error.orig)


def open_engine(
    path: Path,
    *,
    cache_mib: int = 8,
    readers: int = 8,
    functions: Mapping[str, tuple[int, Callable[..., Any]]] | None = None,
    attached: Mapping[str, Path] | None = None,
    foreign_keys: bool = True,
) -> Engine:
    """An engine on a file: WAL, FULL synchronous, readable by its owner alone.

    `functions` are called by name in SQL: how many arguments each takes, and what it answers, always the same.
    `attached` are other files by the names that SQL has for them. `foreign_keys` says whether SQLite holds them.
    """
    for file in (path, *(attached or {}).values()):
        if not file.exists():
            file.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            file.touch(mode=0o600)
    engine = create_engine(
        f"sqlite:///{path}",
        pool_size=readers,
        max_overflow=readers,
        connect_args={"check_same_thread": False, "timeout": BUSY_MS / 1000},
    )

    @event.listens_for(engine, "connect")
    def _prepare(connection: Any, _record: Any) -> None:
        cursor = connection.cursor()
        cursor.execute(f"PRAGMA busy_timeout={BUSY_MS}")
        _into_wal(cursor, "main")
        cursor.execute("PRAGMA synchronous=FULL")
        cursor.execute(f"PRAGMA foreign_keys={'ON' if foreign_keys else 'OFF'}")
        cursor.execute(f"PRAGMA cache_size=-{cache_mib * 1024}")
        cursor.execute("PRAGMA temp_store=MEMORY")
        for name, file in (attached or {}).items():
            cursor.execute(f"ATTACH ? AS {name}", (str(file),))
            _into_wal(cursor, name)
        cursor.close()
        for name, (arguments, function) in (functions or {}).items():
            connection.create_function(name, arguments, function, deterministic=True)

    return engine


def looked_at(path: Path) -> sqlite3.Connection:
    """A plain connection that writes nothing, to a file that another process may be writing. With a BEGIN it sees the
    file as of one moment until it is closed."""
    connection = sqlite3.connect(path, isolation_level=None, timeout=BUSY_MS / 1000, check_same_thread=False)
    connection.execute("PRAGMA query_only=ON")
    return connection


def _into_wal(cursor: Any, schema: str) -> None:
    """Makes a file one with a write-ahead log. SQLite does not wait here by itself when another connection is at it."""
    end = time.monotonic() + BUSY_MS / 1000
    while cursor.execute(f"PRAGMA {schema}.journal_mode").fetchone()[0] != "wal":
        try:
            cursor.execute(f"PRAGMA {schema}.journal_mode=WAL")
        except sqlite3.OperationalError as error:
            if "locked" not in str(error) or time.monotonic() > end:
                raise
            time.sleep(0.02)
