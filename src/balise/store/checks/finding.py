"""What is wrong with something that is kept."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

Progress = Callable[[str, int, int], None]
"""Is told what is looked at, and how much of how many is done."""


@dataclass(frozen=True)
class Finding:
    """`where` is the file; `mended` says what was done about it, "" when nothing was; `remedy` what a person can do."""

    where: str
    what: str
    mended: str = ""
    remedy: str = ""

    @property
    def text(self) -> str:
        return "; ".join(part for part in (f"{self.where}: {self.what}", self.mended or self.remedy) if part)


def looked_at(path: Path) -> sqlite3.Connection:
    """A connection that writes nothing and sees the file as of now for as long as it is open."""
    connection = sqlite3.connect(path, isolation_level=None, timeout=15)
    connection.execute("PRAGMA query_only=ON")
    connection.execute("BEGIN")
    return connection


def damage(connection: sqlite3.Connection, where: str, remedy: str) -> Iterator[Finding]:
    """What SQLite itself finds wrong with a file."""
    try:
        found = [row[0] for row in connection.execute("PRAGMA integrity_check(5)")]
        found += [f"a row of {row[0]} names one of {row[2]} that is not there" for row in
                  connection.execute("SELECT * FROM pragma_foreign_key_check LIMIT 5")]  # fmt: skip
    except sqlite3.DatabaseError as error:
        found = [str(error)]
    for one in found:
        if one != "ok":
            yield Finding(where, one.replace("\n", ", ")[:300], remedy=remedy)
