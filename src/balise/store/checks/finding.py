"""What is wrong with something that is kept."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from dataclasses import dataclass

RESTORE = "put a backup back: balise data restore"
STOP = "stop the console and run balise data check --mend"


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
