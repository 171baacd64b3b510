"""Opening state.db, bringing it up to date, and writing it from one thread."""

from __future__ import annotations

import fcntl
import sqlite3
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, TypeVar

from alembic import command
from alembic.config import Config
from alembic.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import Connection
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import InstrumentedAttribute, Session, sessionmaker

from balise.store.database import in_pieces, is_full, open_engine
from balise.store.folders import must_be_whole
from balise.store.state.columns import set_columns
from balise.store.writer import GroupWriter

R = TypeVar("R")
AT_ONCE = 250
"""Rows that are set by one change."""
_MIGRATIONS = Path(__file__).parent / "migrations"


def _upgrade(connection: Connection) -> None:
    config = Config()
    config.set_main_option("script_location", str(_MIGRATIONS))
    newest = ScriptDirectory.from_config(config).get_current_head()
    if MigrationContext.configure(connection).get_current_revision() != newest:
        config.attributes["connection"] = connection
        command.upgrade(config, "head")


class StateStore:
    """All of state.db. `read` from any thread; `write` runs on the one writer thread and commits."""

    def __init__(self, folder: Path, *, when_full: Callable[[], bool] = lambda: False) -> None:
        """`when_full` is called when a change found no room on the disk; it answers whether to try once more."""
        self._when_full = when_full
        must_be_whole(folder)
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        self.path = folder / "state.db"
        # The service and the command line may both come first to a new folder.
        place = folder / "state.lock"
        place.touch(mode=0o600)
        place.chmod(0o600)
        with place.open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            self.engine = open_engine(self.path)
            with self.engine.begin() as connection:
                _upgrade(connection)
        self._sessions = sessionmaker(self.engine, expire_on_commit=False)
        self._writer: GroupWriter[None] = GroupWriter("state-writer", lambda _none: None, limit=1)

    def read(self, question: Callable[[Session], R]) -> R:
        """What `question` answers; it must not write."""
        with self._sessions() as session:
            return question(session)

    def rows(self, sql: str, given: Sequence[object]) -> list[tuple[Any, ...]]:
        """The rows that a SELECT finds, as SQLite has them: for what a whole fleet asks, as a session takes ten times
        as long."""
        connection = self.engine.raw_connection()
        try:
            found: list[tuple[Any, ...]] = connection.cursor().execute(sql, given).fetchall()
            return found
        except sqlite3.Error as error:
            raise OperationalError(sql, None, error) from error
        finally:
            connection.close()

    def write(self, change: Callable[[Session], R]) -> R:
        """Runs `change` in one transaction on the writer thread; an exception undoes all of it."""

        def run() -> R:
            with self._sessions.begin() as session:
                return change(session)

        def run_with_room() -> R:
            try:
                return run()
            except OperationalError as error:
                if not is_full(error) or not self._when_full():
                    raise
                return run()

        return self._writer.run(run_with_room)

    def set_columns(self, columns: Sequence[InstrumentedAttribute[Any]], rows: Sequence[Sequence[Any]]) -> None:
        """`columns.set_columns` for what may be written in part: some rows at a time, others' changes between."""
        for piece in in_pieces(rows, AT_ONCE):
            self.write(lambda session, piece=piece: set_columns(session, columns, piece))  # type: ignore[misc]

    def size(self) -> int:
        return sum(p.stat().st_size for p in self.path.parent.glob("state.db*"))

    def close(self) -> None:
        self._writer.close()
        self.engine.dispose()
