"""Days as earlier versions kept them, brought up to how they are kept now when the service starts."""

from __future__ import annotations

import logging
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from balise.core.events.new_event import NewEvent
from balise.store.database import open_engine
from balise.store.events.day import FORM, Day
from balise.store.events.index import words_path
from balise.store.events.pattern_book import PatternBook

AT_ONCE = 5000
log = logging.getLogger(__name__)


def bring_up(path: Path, book: PatternBook) -> bool:
    """Brings one day up, and answers whether it had to be. The old file stays until the new one is whole."""
    engine = open_engine(path, readers=1)
    try:
        with engine.connect() as old:
            there = old.exec_driver_sql("SELECT 1 FROM sqlite_master WHERE name = 'event'").first()
            if not there or old.exec_driver_sql("PRAGMA user_version").scalar_one() >= FORM:
                return False
            log.info("events of %s are brought up to how they are kept now", path.stem)
            fresh = path.with_suffix(".fresh")
            _remove(fresh)
            day = Day(fresh)
            for rows in _rows(old):
                events = [NewEvent(*row[1:]) for row in rows]
                day.copy([row[0] for row in rows], events, book.patterns(events))
            day.take_over(old)
            day.close()
            old.rollback()
            old.exec_driver_sql("PRAGMA wal_checkpoint(TRUNCATE)")
    finally:
        engine.dispose()
    # All of the old file is in it now: what is left of its log must not be read into the new one.
    for suffix in ("-wal", "-shm"):
        path.with_name(path.name + suffix).unlink(missing_ok=True)
    fresh.replace(path)
    return True


def _rows(old: Any) -> Iterator[Sequence[Any]]:
    """Events in the order of their numbers."""
    after = -(1 << 62)
    while True:
        rows = old.exec_driver_sql(
            "SELECT id, time, host, severity, source, body, attributes FROM event WHERE id > ? ORDER BY id LIMIT ?",
            (after, AT_ONCE),
        ).fetchall()
        if not rows:
            return
        yield rows
        after = rows[-1][0]


def _remove(path: Path) -> None:
    """A file of SQLite with its log, and the words that stand beside it."""
    for one in (path, words_path(path)):
        for suffix in ("", "-wal", "-shm"):
            one.with_name(one.name + suffix).unlink(missing_ok=True)
