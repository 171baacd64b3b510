"""A site's sums: what a plan's hosts measured, added up step by step, kept on disk until it is sent on."""

from __future__ import annotations

import json
import sqlite3
import threading
from collections import defaultdict
from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass
from hashlib import blake2b
from pathlib import Path

from balise.core.moments import NS
from balise.relay.amounts import Amount, Kind

GRACE = 30.0
"""Seconds after a step's end for which its points are waited for."""
MOST_KINDS, MOST_SERIES, MOST_OF_ONE = 20_000, 500_000, 20_000
"""What is added up at most: kinds of amounts, series, and series of one host."""
MOST_SAID = 4096
"""Bytes of a kind's attributes."""
FORGOTTEN_AFTER = 86_400
"""Seconds after which a series that says nothing any more is forgotten."""
_TABLES = """
CREATE TABLE IF NOT EXISTS kinds (id INTEGER PRIMARY KEY, plan TEXT, every INTEGER, metric TEXT, unit TEXT,
    attributes BLOB, how TEXT, part TEXT, bounds TEXT, UNIQUE (plan, every, metric, attributes, part));
CREATE TABLE IF NOT EXISTS series (id INTEGER PRIMARY KEY, host INTEGER, kind INTEGER, at INTEGER, value REAL);
CREATE INDEX IF NOT EXISTS series_of_host ON series (host);
CREATE TABLE IF NOT EXISTS adding (step INTEGER, series INTEGER, kind INTEGER, host INTEGER, value REAL,
    PRIMARY KEY (step, series)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS closed (every INTEGER PRIMARY KEY, upto INTEGER);
"""


@dataclass(frozen=True)
class Added:
    """What was said of a host for a plan's sums, whose steps are `every` so many nanoseconds; `at` is when it came."""

    plan: str
    every: int
    host: int
    sender: str
    at: int
    amounts: Sequence[Amount]


@dataclass(frozen=True)
class Total:
    """The sum of all amounts of a kind in the step that ended at `end`, unix nanoseconds, and of how many hosts."""

    plan: str
    every: int
    end: int
    kind: Kind
    value: float
    hosts: int


class Sums:
    """All sums of a relay, in a database of its own. Used by several threads.

    A level counts in the step of its own moment with its last value there. An increase, from one point of a counter to
    its next, counts in the step of the later one; where that is closed already, in the first that is open, so that no
    increase is ever lost. A step, once closed, never changes.
    """

    def __init__(self, path: Path) -> None:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        path.touch(mode=0o600)
        self._lock = threading.Lock()
        self._db = sqlite3.connect(path, isolation_level=None, check_same_thread=False)
        self._db.executescript(f"PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL; {_TABLES}")
        self._kinds: dict[tuple[str, int, str, bytes, str], tuple[int, Kind]] = {}
        self._each: dict[int, int] = {}
        self._take_up()
        self.added = self.left_out = 0
        """Amounts since the start, and those that are in no sum: levels that came too late, other bounds, too many."""

    def _take_up(self) -> None:
        """Remembers which kinds there are, and how many series each host has."""
        self._kinds.clear()
        for row in self._db.execute("SELECT id, plan, every, metric, unit, attributes, how, part, bounds FROM kinds"):
            number, plan, every, metric, unit, attributes, how, part, bounds = row
            kind = Kind(metric, unit, attributes, how, part, tuple(json.loads(bounds)))
            self._kinds[(plan, every, metric, attributes, part)] = (number, kind)
        self._each = dict(self._db.execute("SELECT host, count(*) FROM series GROUP BY host"))
        self._size = sum(self._each.values())

    def add(self, said: Sequence[Added]) -> None:
        """Returns when all of it is on disk. What was added before is not added again.

        Raises:
            OSError: it cannot be written.
        """
        with self._lock:
            try:
                self._db.execute("BEGIN IMMEDIATE")
                left_out = sum(self._add(one) for one in said)
                self._db.execute("COMMIT")
                self.left_out += left_out
                self.added += sum(len(one.amounts) for one in said)
            except BaseException as error:
                self._undo()
                if isinstance(error, sqlite3.Error):
                    raise OSError(0, f"sums cannot be written: {error}") from error
                raise

    def _undo(self) -> None:
        """Takes back what was not written, and what was remembered of it."""
        if self._db.in_transaction:
            self._db.execute("ROLLBACK")
        self._take_up()

    def _add(self, said: Added) -> int:
        """Adds what one sender said; answers how many amounts are in no sum."""
        row = self._db.execute("SELECT upto FROM closed WHERE every = ?", (said.every,)).fetchone()
        closed = row[0] if row is not None else 0
        return sum(not self._add_one(said, amount, closed) for amount in said.amounts)

    def _add_one(self, said: Added, amount: Amount, closed: int) -> bool:
        """Whether an amount is in a sum, now or before."""
        kind = self._kind(said, amount.kind)
        if kind is None:
            return False
        number = _number(said.sender, amount.whose, kind)
        held = self._db.execute("SELECT at, value FROM series WHERE id = ?", (number,)).fetchone()
        if held is None and not self._room(said.host):
            return False
        at = min(amount.at, said.at) if amount.at else said.at
        if held is not None and at <= held[0]:
            return at == held[0] or amount.kind.how == "counter"
        self._db.execute(
            "INSERT OR REPLACE INTO series VALUES (?, ?, ?, ?, ?)", (number, said.host, kind, at, amount.value)
        )
        if held is None:
            self._size, self._each[said.host] = self._size + 1, self._each.get(said.host, 0) + 1
        step = -(-at // said.every) * said.every
        if amount.kind.how == "level":
            if step <= closed:
                return False
            value, before = amount.value, 0
        else:
            step = max(step, closed + said.every)
            value, before = _increase(amount, held), 1
        self._db.execute(
            "INSERT INTO adding VALUES (?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET value = excluded.value + ? * value",
            (step, number, kind, said.host, value, before),
        )
        return True

    def _room(self, host: int) -> bool:
        return self._size < MOST_SERIES and self._each.get(host, 0) < MOST_OF_ONE

    def _kind(self, said: Added, kind: Kind) -> int | None:
        """The number of a kind; None when it cannot be added to what has its name, or there are too many."""
        key = (said.plan, said.every, kind.metric, kind.attributes, kind.part)
        found = self._kinds.get(key)
        if found is not None:
            number, held = found
            return number if (held.how, held.bounds) == (kind.how, kind.bounds) else None
        if len(self._kinds) >= MOST_KINDS or len(kind.attributes) > MOST_SAID or len(kind.metric) > MOST_SAID:
            return None
        cursor = self._db.execute(
            "INSERT INTO kinds VALUES (NULL, ?, ?, ?, ?, ?, ?, ?, ?)",
            (*key[:3], kind.unit, kind.attributes, kind.how, kind.part, json.dumps(kind.bounds)),
        )
        made = int(cursor.lastrowid or 0)
        self._kinds[key] = (made, kind)
        return made

    # --- what is whole

    def close_due(self, now: int) -> None:
        """Closes the steps that ended `GRACE` ago. They are closed for good before anybody sees them.

        Raises:
            OSError: it cannot be written.
        """
        with self._lock:
            try:
                for every in {every for _, every, *_ in self._kinds}:
                    upto = (now - round(GRACE * NS)) // every * every
                    # A clock that was ahead and is right again: what it closed is open again.
                    self._db.execute(
                        "INSERT INTO closed VALUES (?, ?) ON CONFLICT DO UPDATE SET upto = excluded.upto "
                        "WHERE excluded.upto > upto OR upto > ?",
                        (every, upto, now),
                    )
            except sqlite3.Error as error:
                raise OSError(0, f"sums cannot be written: {error}") from error

    def closed(self, most: int = 20_000) -> list[Total]:
        """The sums of the first steps that are closed and not yet sent on, whole steps, about so many."""
        with self._lock:
            rows = self._db.execute(
                "SELECT adding.step, kind, sum(value), count(DISTINCT host) FROM adding "
                "JOIN kinds ON kinds.id = kind JOIN closed USING (every) WHERE step <= upto "
                "GROUP BY step, kind ORDER BY step, kind"
            )
            kinds = {number: (key, kind) for key, (number, kind) in self._kinds.items()}
            found: list[Total] = []
            with closing(rows):
                for end, number, value, hosts in rows:
                    if len(found) >= most and found[-1].end != end:
                        break
                    (plan, every, *_), kind = kinds[number]
                    found.append(Total(plan, every, end, kind, value, hosts))
            return found

    def sent(self, totals: Sequence[Total]) -> None:
        """These are on their way for good.

        Raises:
            OSError: it cannot be written: they are told again, and count once.
        """
        by_every: dict[int, set[int]] = defaultdict(set)
        for one in totals:
            by_every[one.every].add(one.end)
        with self._lock:
            try:
                self._db.execute("BEGIN IMMEDIATE")
                for every, ends in by_every.items():
                    self._db.executemany(
                        "DELETE FROM adding WHERE step = ? AND kind IN (SELECT id FROM kinds WHERE every = ?)",
                        [(end, every) for end in ends],
                    )
                self._db.execute("COMMIT")
            except sqlite3.Error as error:
                self._undo()
                raise OSError(0, f"sums cannot be written: {error}") from error

    def forget(self, now: int) -> None:
        """Forgets series that said nothing for a day, and kinds that nothing is of."""
        with self._lock:
            self._db.execute("DELETE FROM series WHERE at < ?", (now - FORGOTTEN_AFTER * NS,))
            self._db.execute(
                "DELETE FROM kinds WHERE id NOT IN (SELECT kind FROM series) AND id NOT IN (SELECT kind FROM adding)"
            )
            self._take_up()

    def close(self) -> None:
        with self._lock:
            self._db.close()


def _increase(amount: Amount, held: tuple[int, float] | None) -> float:
    """What came since the point before: nothing is known of that at the first point of a counter, and one that went
    back began at 0."""
    if amount.kind.how == "delta":
        return amount.value
    if held is None:
        return 0.0
    return amount.value - held[1] if amount.value >= held[1] else amount.value


def _number(sender: str, whose: bytes, kind: int) -> int:
    """The number of a series: 63 bits of what tells it from others."""
    text = f"{sender} {kind} ".encode() + whose
    return int.from_bytes(blake2b(text, digest_size=8).digest(), "big") >> 1
