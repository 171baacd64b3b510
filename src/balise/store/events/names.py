"""Names that many events have, each kept once in a file and a number with the events."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from sqlalchemy import Connection

MOST_KNOWN = 20_000


class Names:
    """The hosts or the sources of one day, as its one writer knows them.

    What is new is written in the transaction of whoever asks; when that fails, `forget` what was learnt.
    """

    def __init__(self, table: Literal["host", "source"]) -> None:
        self._table = table
        self._known: dict[str, int] = {}

    def numbers(self, connection: Connection, names: Sequence[str]) -> dict[str, int]:
        """The number of each name."""
        if len(self._known) > MOST_KNOWN:
            self._known.clear()
        unknown = [(name,) for name in {*names} if name not in self._known]
        if unknown:
            connection.exec_driver_sql(f"INSERT OR IGNORE INTO {self._table} (name) VALUES (?)", unknown)
            for (name,) in unknown:
                found = connection.exec_driver_sql(f"SELECT id FROM {self._table} WHERE name = ?", (name,))
                self._known[name] = found.scalar_one()
        return self._known

    def forget(self) -> None:
        self._known.clear()
