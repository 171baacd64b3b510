"""Looking at several databases as of one moment, while others write them."""

from __future__ import annotations

import sqlite3
import time
from collections.abc import Iterable
from pathlib import Path

from balise.store.database import looked_at

TRIES = 50


class Moment:
    """Holds a view of each database until it is let go. Between the views nothing was changed in the first of them,
    which names what stands in the others."""

    def __init__(self, first: Path, others: Iterable[Path]) -> None:
        self.at = 0.0
        self._held = {path: looked_at(path) for path in (first, *others)}
        watching = looked_at(first)
        try:
            for _ in range(TRIES):
                before = _version(watching)
                self.at = time.time()
                for connection in self._held.values():
                    connection.execute("BEGIN")
                    connection.execute("SELECT count(*) FROM sqlite_master").fetchone()
                if _version(watching) == before:
                    return
                for connection in self._held.values():
                    connection.execute("ROLLBACK")
                time.sleep(0.02)
            raise TimeoutError(f"{first.name} never stood still long enough to be looked at with the others")
        except BaseException:
            self.close()
            raise
        finally:
            watching.close()

    def view(self, path: Path) -> sqlite3.Connection:
        """The connection that sees a database as it was."""
        return self._held[path]

    def let_go(self, path: Path) -> None:
        """The view of one database is needed no more: its log can be written back."""
        self._held.pop(path).close()

    def close(self) -> None:
        for path in list(self._held):
            self.let_go(path)


def _version(connection: sqlite3.Connection) -> int:
    """Changes whenever another connection has written."""
    found: int = connection.execute("PRAGMA data_version").fetchone()[0]
    return found
