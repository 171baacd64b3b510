"""Days set aside: copied out whole, verified, and brought back to be read.

A copy is the day's own file, packed with gzip, and beside it a note in JSON of what it holds.
"""

from __future__ import annotations

import gzip
import hashlib
import json
import os
import threading
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import BinaryIO

from balise.core.moments import Nanos, now_nanos
from balise.durable import settle, write_durably
from balise.store.database import open_engine
from balise.store.events.day_search import DAY
from balise.store.events.store import EventStore, day_name

BLOCK = 1 << 20
PACKING = 6
"""How hard gzip tries: about a fifth of the size at 50 MB a second."""


class CannotSetAside(Exception):
    """The message says why, and what to do."""


@dataclass(frozen=True)
class Copy:
    """What was set aside of a day. `mark` tells the day's file from another of the same day, `digest` is the SHA-256
    of the file as it was, in hexadecimal; `size` and `packed` are bytes, `written_at` is nanoseconds."""

    day: int
    mark: int
    events: int
    size: int
    packed: int
    digest: str
    written_at: Nanos


class Aside:
    """Copies of days in a folder of their own, which may be another disk. One thing is done at a time."""

    def __init__(self, folder: Path, events: EventStore) -> None:
        self.folder = folder
        self._events = events
        self._lock = threading.Lock()

    def copies(self) -> dict[int, Copy]:
        """What is set aside, by day. A note that cannot be read is none."""
        found = {}
        for path in sorted(self.folder.glob("????-??-??.json")):
            try:
                copy = Copy(**json.loads(path.read_text("utf-8")))
            except (OSError, ValueError, TypeError):
                continue
            if self._packed(copy.day).exists():
                found[copy.day] = copy
        return found

    def put(self, day: int, now: Nanos) -> Copy:
        """Copies a day that is over, and reads the copy back before it counts. The day itself stays.

        Raises:
            CannotSetAside: the day is not over or not here, or another copy would be lost.
            OSError: there is no room for the copy, or it cannot be read back.
        """
        with self._one_thing():
            if (day + 1) * DAY > now:
                raise CannotSetAside(f"{day_name(day)} is not over: set it aside when it is")
            if day not in self._events.days():
                raise CannotSetAside(f"there are no events of {day_name(day)} here")
            mark = self._events.mark(day)
            before = self.copies().get(day)
            if before is not None and before.mark != mark:
                raise CannotSetAside(f"{day_name(day)} is set aside already: bring that back, then set all of it aside")
            return self._copied(day, mark)

    def _copied(self, day: int, mark: int) -> Copy:
        self.folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        plain, packing = self.folder / f"{day_name(day)}.copying", self.folder / f"{day_name(day)}.packing"
        try:
            _private(plain).close()
            self._events.copy_out(day, plain)
            events = _events_of(plain, day)
            with open(plain, "rb") as source, _private(packing) as file:
                with gzip.GzipFile("", "wb", PACKING, file) as packed:
                    digest = _through(source, packed)
                file.flush()
                os.fsync(file.fileno())
            if _digest_of(packing) != digest:
                raise CannotSetAside(
                    f"the copy of {day_name(day)} does not read back as it was written: check the disk"
                )
            size, small = plain.stat().st_size, packing.stat().st_size
            copy = Copy(day, mark, events, size, small, digest, now_nanos())
            os.replace(packing, self._packed(day))
            write_durably(self.folder / f"{day_name(day)}.json", json.dumps(asdict(copy)).encode())
            settle(self.folder)
            return copy
        finally:
            for path in (plain, packing):
                path.unlink(missing_ok=True)

    def bring_back(self, day: int) -> Copy:
        """Puts a copy among the days again, where it is read like all others and stays until it is let go.

        Events of the day that came later are kept beside those of the copy.

        Raises:
            CannotSetAside: there is no copy, it is not what was written, or the day is here.
            OSError: there is no room for it.
        """
        with self._one_thing():
            copy = self._find(day)
            if day in self._events.days() and self._events.mark(day) == copy.mark:
                raise CannotSetAside(f"{day_name(day)} is here already")
            fresh = self._events.folder / f"{day_name(day)}.back"
            try:
                with _private(fresh) as file:
                    digest = _unpacked(self._packed(day), file)
                    file.flush()
                    os.fsync(file.fileno())
                if digest != copy.digest:
                    raise CannotSetAside(f"the copy of {day_name(day)} is not what was written: its digest is another")
                self._events.take_back(day, fresh)
            finally:
                for suffix in ("", "-wal", "-shm"):
                    fresh.with_name(fresh.name + suffix).unlink(missing_ok=True)
            return copy

    def let_go(self, day: int) -> Copy:
        """Removes a day from here of which there is a copy that reads back.

        Raises:
            CannotSetAside: there is no copy of all that is here, or it is not what was written.
        """
        with self._one_thing():
            copy = self._find(day)
            if day not in self._events.days():
                raise CannotSetAside(f"{day_name(day)} is not here")
            if self._events.mark(day) != copy.mark or self._events.count(day) != copy.events:
                raise CannotSetAside(f"there are events of {day_name(day)} that the copy lacks: set it aside again")
            if _digest_of(self._packed(day)) != copy.digest:
                raise CannotSetAside(f"the copy of {day_name(day)} is not what was written: set it aside again")
            self._events.drop(day)
            return copy

    def _find(self, day: int) -> Copy:
        copy = self.copies().get(day)
        if copy is None:
            raise CannotSetAside(f"{day_name(day)} is not set aside")
        return copy

    def _packed(self, day: int) -> Path:
        return self.folder / f"{day_name(day)}.db.gz"

    @contextmanager
    def _one_thing(self) -> Iterator[None]:
        if not self._lock.acquire(blocking=False):
            raise CannotSetAside("another day is being set aside or brought back: try again when that is done")
        try:
            yield
        finally:
            self._lock.release()


def _events_of(path: Path, day: int) -> int:
    """How many events a copy holds, counted one by one. Raises CannotSetAside when the file is damaged."""
    engine = open_engine(path, readers=1)
    try:
        with engine.connect() as connection:
            said = connection.exec_driver_sql("PRAGMA quick_check(1)").scalar_one()
            if said != "ok":
                raise CannotSetAside(f"the file of {day_name(day)} is damaged: {said}")
            count: int = connection.exec_driver_sql("SELECT count(*) FROM event").scalar_one()
            connection.rollback()
            connection.exec_driver_sql("PRAGMA journal_mode=DELETE").close()
            return count
    finally:
        engine.dispose()


def _through(source: BinaryIO, to: gzip.GzipFile) -> str:
    digest = hashlib.sha256()
    while block := source.read(BLOCK):
        digest.update(block)
        to.write(block)
    return digest.hexdigest()


def _unpacked(path: Path, to: BinaryIO | None) -> str:
    """The digest of what a packed file holds, which is written to a file on the way. Empty when it cannot be read."""
    digest = hashlib.sha256()
    try:
        with gzip.open(path, "rb") as packed:
            while block := packed.read(BLOCK):
                digest.update(block)
                if to is not None:
                    to.write(block)
    except (gzip.BadGzipFile, EOFError, zlib.error):
        return ""
    return digest.hexdigest()


def _digest_of(path: Path) -> str:
    return _unpacked(path, None)


def _private(path: Path) -> BinaryIO:
    """A new file that its owner alone may read."""
    path.unlink(missing_ok=True)
    return os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb")
