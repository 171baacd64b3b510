"""The words of a day's events, in a file beside them.

Events are acknowledged without it: it is brought up to them by a thread of its own, in steps of SQLite alone, and
before it is asked. It can be made anew from the events at any time, so losing it loses nothing.
"""

from __future__ import annotations

import logging
import re
import threading
from collections import Counter
from collections.abc import Sequence
from contextlib import closing
from pathlib import Path
from typing import Any

from balise.store.database import is_full, open_engine

MOST_OPEN = 8
AT_ONCE = 20_000
"""Events of one transaction."""
GATHER, PAUSE_AFTER_FAILURE = 1.0, 5.0
"""Seconds in which events gather until their words are taken up, unless somebody asks before; and after a failure."""
_TABLES = (
    "CREATE VIRTUAL TABLE IF NOT EXISTS words USING fts5(body, tags, content='', columnsize=0, "
    'tokenize="unicode61 remove_diacritics 2")',
    "CREATE TABLE IF NOT EXISTS reached (low INTEGER NOT NULL, high INTEGER NOT NULL)",
    "INSERT INTO reached (low, high) SELECT 0, 0 WHERE NOT EXISTS (SELECT 1 FROM reached)",
)
_TAGS = "'h' || host || ' p' || pattern"
_TAKE = (
    f"INSERT INTO words (rowid, body, tags) SELECT id, body, {_TAGS} FROM day.event "
    "WHERE id > ? AND id <= ? ORDER BY id"
)
_HOLDS = "SELECT 1 FROM words WHERE words MATCH ? AND rowid = ?"
_ENDS = "SELECT (SELECT min(id) FROM {0}), (SELECT max(id) FROM {0})"
log = logging.getLogger(__name__)


class NotIndexed(Exception):
    """The words of the newest events cannot be taken up now: the message says why, and what to do."""


def words_path(day: Path) -> Path:
    """The file of a day's words."""
    return day.with_suffix(".words.db")


def match_expression(text: str, tags: Sequence[Sequence[str]] = ()) -> str | None:
    """What FTS5 is asked: every word of the text, quoted ones as a phrase, one that ends in * as a beginning.

    Of each group of tags one has to be there: `h7` a host by its number, `p9` a pattern.
    """
    terms: list[str] = []
    for phrase, word in re.findall(r'"([^"]*)"|(\S+)', text):
        wanted = re.findall(r"\w+", phrase or word)
        if wanted:
            terms.append('body:"' + " ".join(wanted) + '"' + ("*" if word.endswith("*") else ""))
    terms += ["tags:(" + " OR ".join(group) + ")" for group in tags]
    return " AND ".join(terms) if terms else None


class WordIndex:
    """The words of one day, for one thread at a time."""

    def __init__(self, day: Path) -> None:
        self._engine = open_engine(words_path(day), cache_mib=8, readers=1, attached={"day": day})
        self._writing = self._engine.connect()
        # It can be made anew: it need not be on the disk before the next step.
        self._writing.exec_driver_sql("PRAGMA synchronous=NORMAL")
        for statement in _TABLES:
            self._writing.exec_driver_sql(statement)
        self._writing.commit()

    def reached(self) -> tuple[int, int]:
        """The lowest and highest number of an event whose words are known."""
        low, high = self._writing.exec_driver_sql("SELECT low, high FROM reached").one()
        self._writing.rollback()
        return low, high

    def step(self) -> bool:
        """Takes up some of the events that are written; answers whether there may be more."""
        connection = self._writing
        try:
            low, high = connection.exec_driver_sql("SELECT low, high FROM reached").one()
            bottom, top = connection.exec_driver_sql(_ENDS.format("day.event")).one()
            upto, down = min(top or 0, high + AT_ONCE), max(bottom or 0, low - AT_ONCE)
            if upto <= high and down >= low:
                connection.rollback()
                return False
            if upto > high:
                connection.exec_driver_sql(_TAKE, (high, upto))
            if down < low:
                # The one that was taken up last, or zero, is not taken again.
                connection.exec_driver_sql(_TAKE, (down - 1, low - 1))
            connection.exec_driver_sql("UPDATE reached SET low = ?, high = ?", (min(low, down), max(high, upto)))
            connection.commit()
        except Exception:
            connection.rollback()
            raise
        return True

    def forget(self, rows: Sequence[Sequence[Any]]) -> None:
        """Lets go of events that were erased: their number, time, host, severity, source, pattern and body."""
        # A contentless index forgets a row when it is told again what it holds; one that it does not hold, as that was
        # erased before its words were taken up, would break it.
        gone = [
            ("delete", number, body, f"h{host} p{pattern}")
            for number, _, host, _, _, pattern, body, *_ in rows
            if self._writing.exec_driver_sql(_HOLDS, (f"tags:h{host}", number)).first()
        ]
        if gone:
            self._writing.exec_driver_sql("INSERT INTO words (words, rowid, body, tags) VALUES (?, ?, ?, ?)", gone)
        self._writing.commit()

    def settle(self) -> None:
        """Brings all that was written into the one file, if nobody reads it."""
        self._writing.exec_driver_sql("PRAGMA busy_timeout=0")
        self._writing.exec_driver_sql("PRAGMA main.wal_checkpoint(TRUNCATE)")

    def close(self) -> None:
        self._writing.close()
        self._engine.dispose()


class Indexer:
    """Brings the words of days up to their events, on a thread of its own and for those who ask."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._open: dict[Path, WordIndex] = {}
        self._due: set[Path] = set()
        self._written: Counter[Path] = Counter()
        """How often something was written to a day, and how much of that is taken up for sure."""
        self._taken: dict[Path, int] = {}
        self._wake = threading.Condition()
        self._stopping = False
        self.failures = 0
        self._thread = threading.Thread(target=self._run, name="event-words", daemon=True)
        self._thread.start()

    def wake(self, day: Path) -> None:
        """Events of a day were written."""
        with self._wake:
            self._written[day] += 1
            self._due.add(day)
            self._wake.notify()

    def catch_up(self, day: Path) -> None:
        """Returns once the words of all events written so far are known. Raises NotIndexed when there is no room."""
        written = self._written[day]
        if self._taken.get(day) == written:
            return
        more = True
        while more:
            # Whoever asks for another day waits for one step at the most.
            with self._lock:
                try:
                    more = self._of(day).step()
                except Exception as error:
                    if not is_full(error):
                        raise
                    detail = "the disk is full, so the words of the newest events cannot be looked up"
                    raise NotIndexed(f"{detail}: search by a filter on what events are, or make room") from None
        self._taken[day] = written

    def forget(self, day: Path, rows: Sequence[Sequence[Any]]) -> None:
        with self._lock:
            self._of(day).forget(rows)

    def rest(self, day: Path) -> None:
        """Nothing is written to a day any more for now: its words stand in one file."""
        with self._lock:
            held = self._open.pop(day, None)
            if held is not None:
                with closing(held):
                    held.settle()

    def drop(self, day: Path) -> None:
        """The day is removed."""
        self._taken.pop(day, None)
        with self._lock:
            held = self._open.pop(day, None)
            if held is not None:
                held.close()
        with self._wake:
            self._due.discard(day)

    def _of(self, day: Path) -> WordIndex:
        held = self._open.pop(day, None) or WordIndex(day)
        self._open[day] = held
        if len(self._open) > MOST_OPEN:
            self._open.pop(next(iter(self._open))).close()
        return held

    def _run(self) -> None:
        while True:
            with self._wake:
                while not self._due and not self._stopping:
                    self._wake.wait()
                if self._stopping:
                    return
                due, self._due = self._due, set()
            for day in due:
                if not self._taken_up(day):
                    self.failures += 1
                    self.wake(day)
                    self._pause(PAUSE_AFTER_FAILURE)
            self._pause(GATHER)

    def _taken_up(self, day: Path) -> bool:
        try:
            self.catch_up(day)
        except NotIndexed as problem:
            log.warning("day=%s %s", day.stem, problem)
            return False
        except Exception:
            log.exception("words of %s are not taken up", day.stem)
            return False
        return True

    def _pause(self, seconds: float) -> None:
        with self._wake:
            self._wake.wait_for(lambda: self._stopping, seconds)

    def close(self) -> None:
        with self._wake:
            self._stopping = True
            self._wake.notify_all()
        self._thread.join(30)
        with self._lock:
            for held in self._open.values():
                held.close()
            self._open.clear()
