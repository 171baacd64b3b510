"""Verifying the files of events: that each is whole, and that what is counted of it is what is in it."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

from balise.store.checks.finding import RESTORE, STOP, Finding, damage
from balise.store.database import looked_at
from balise.store.events.day import HOUR, MINUTE
from balise.store.events.index import words_path
from balise.store.progress import Progress

_MINUTES = f"SELECT time / {MINUTE}, severity, count(*) FROM event GROUP BY 1, 2"
_HOURS = f"SELECT time / {HOUR}, pattern, severity, source, host, count(*) FROM event GROUP BY 1, 2, 3, 4, 5"
_COUNTS = (
    ("minute", _MINUTES, "SELECT minute, severity, count FROM minute WHERE count > 0"),
    ("said", _HOURS, "SELECT hour, pattern, severity, source, host, count FROM said WHERE count > 0"),
)
_ANEW = (
    "DELETE FROM minute",
    "INSERT INTO minute (minute, severity, count, first, last) SELECT time / {minute}, severity, count(*), "
    "min(CASE WHEN id > 0 THEN id END), max(CASE WHEN id > 0 THEN id END) FROM event GROUP BY 1, 2",
    "DELETE FROM said",
    # SQLite takes the other columns from the row that has the greatest.
    "INSERT INTO said (hour, pattern, severity, source, host, count, last) SELECT hour, pattern, severity, source, "
    "host, counted, id FROM (SELECT time / {hour} AS hour, pattern, severity, source, host, count(*) AS counted, id, "
    "max(time) FROM event GROUP BY 1, 2, 3, 4, 5)",
)


class EventCheck:
    """Looks at the files of a folder, and mends what can be if it may. `events` is how many there are."""

    def __init__(self, folder: Path, progress: Progress, *, mend: bool) -> None:
        self._folder, self._progress, self._mend = folder, progress, mend
        self.events = 0

    def findings(self) -> Iterator[Finding]:
        days = sorted(self._folder.glob("????-??-??.db"))
        for done, path in enumerate(days, start=1):
            yield from self._day(path)
            self._progress(path.name, done, len(days))
        book = self._folder / "patterns.db"
        if book.exists():
            with closing(looked_at(book)) as connection:
                yield from damage(connection, book.name, RESTORE)

    def _day(self, path: Path) -> Iterator[Finding]:
        with closing(looked_at(path)) as connection:
            connection.execute("BEGIN")
            broken = list(damage(connection, path.name, RESTORE))
            yield from broken
            if broken:
                return
            self.events += connection.execute("SELECT count(*) FROM event").fetchone()[0]
            wrong = [name for name, *queries in _COUNTS if len({_sum(connection, query) for query in queries}) > 1]
            lost = _lost_names(connection)
        if lost:
            yield Finding(path.name, f"{lost} of its events are of a host or source without a name", remedy=RESTORE)
        if wrong:
            mended = self._count_anew(path) if self._mend else ""
            what = f"its counts by {' and by '.join({'minute': 'minute', 'said': 'pattern'}[n] for n in wrong)}"
            yield Finding(path.name, f"{what} are not those of its events", mended, STOP)
        yield from self._words(path)

    def _count_anew(self, path: Path) -> str:
        with closing(sqlite3.connect(path, isolation_level=None, timeout=15)) as connection:
            connection.execute("BEGIN IMMEDIATE")
            for statement in _ANEW:
                connection.execute(statement.format(minute=MINUTE, hour=HOUR))
            connection.execute("COMMIT")
        return "they are counted anew"

    def _words(self, path: Path) -> Iterator[Finding]:
        words = words_path(path)
        if not words.exists():
            return
        try:
            with closing(looked_at(words)) as connection:
                broken = bool(list(damage(connection, words.name, "")))
        except sqlite3.DatabaseError:
            broken = True
        if broken:
            mended = ""
            if self._mend:
                for suffix in ("", "-wal", "-shm"):
                    words.with_name(words.name + suffix).unlink(missing_ok=True)
                mended = "it is removed, and made anew when it is asked"
            yield Finding(words.name, "the index of words is damaged", mended, STOP)


def _sum(connection: sqlite3.Connection, query: str) -> frozenset[tuple[int, ...]]:
    return frozenset(connection.execute(query))


def _lost_names(connection: sqlite3.Connection) -> int:
    found: int = connection.execute(
        "SELECT count(*) FROM event WHERE host NOT IN (SELECT id FROM host) OR source NOT IN (SELECT id FROM source)"
    ).fetchone()[0]
    return found
