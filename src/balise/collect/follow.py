"""Following text files: what is appended, through rotation and truncation, from where one left off."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO, Literal

from balise.collect.position import (
    HEAD,
    TAIL,
    Position,
    Sibling,
    fits,
    found_again,
    later,
    mark_of,
    opened,
    siblings,
    written_since,
)
from balise.collect.readings import LogLine
from balise.core.syslog import parse_line

if TYPE_CHECKING:
    # Reading kits takes memory that an agent without services keeps.
    from balise.core.kits.logs import LogReader

Status = Literal["following", "empty", "missing", "unreadable", "not-a-file"]
MOST_AT_ONCE = 1 << 20
"""Bytes read of one file in one turn: a flood is read over several turns."""
LONGEST_LINE = 64 << 10
MOST_LINES = 100_000
STRAGGLERS = 60.0
"""Seconds for which a file that was turned over is still looked at: who writes it may not have noticed."""


@dataclass(frozen=True)
class FileStatus:
    """How following a file goes, in words for people."""

    path: str
    status: Status
    detail: str
    lines: int
    behind: int


@dataclass
class _Reading:
    """A file that is being read: from where, what of its last line has come, and by what it is known again."""

    file: BinaryIO
    path: Path
    device: int
    inode: int
    offset: int
    head: bytes = b""
    tail: bytes = b""
    rest: bytes = b""
    changed: int = 0
    """While nothing of it is read: when it was written last as it was looked at, unix nanoseconds."""

    @property
    def position(self) -> Position:
        if not self.offset:
            return Position(self.inode, 0, self.device, "", self.changed)
        return Position(self.inode, self.offset, self.device, mark_of(self.head, self.tail))

    def used(self, data: bytes) -> None:
        """These bytes, which follow what was used before, are read."""
        if len(self.head) < HEAD:
            self.head += data[: HEAD - len(self.head)]
        self.tail = (self.tail + data)[-TAIL:]
        self.offset += len(data)

    def holds(self) -> bool:
        """Whether the file still holds what was read of it: it was not truncated, nor written anew."""
        if self.path.suffix == ".gz":
            return True
        number = self.file.fileno()
        if os.fstat(number).st_size < self.offset + len(self.rest):
            return False
        begin = os.pread(number, len(self.head), 0)
        return begin == self.head and os.pread(number, len(self.tail), self.offset - len(self.tail)) == self.tail


class Follower:
    """Follows one file. A file met for the first time is read from its end, unless `from_start`.

    A file that was turned over is found again by its inode, or by what it begins with when it was copied or packed; it
    is read to its end, then those that were turned over after it, then the one that has its name now. What nobody can
    find again, because it was removed or truncated between two readings, is a gap, and said.

    `reader` reads its lines as a kit says; without one they are read as what they look like.
    """

    def __init__(
        self,
        path: str,
        *,
        from_start: bool = False,
        position: Position | None = None,
        reader: LogReader | None = None,
    ) -> None:
        self.path = path
        self.reader = reader
        self._from_start = from_start or position is not None
        self._left_at = position if position is not None and position.inode > 0 else None
        self._reading: _Reading | None = None
        self._before: tuple[_Reading, float] | None = None
        """The file before, and until when it is looked at: who writes it may not have noticed yet."""
        self._next: list[Path] = []
        self._status: Status = "missing"
        self._detail = "not looked at yet"
        self._lines = 0
        self._behind = 0
        self.gaps = 0

    @property
    def position(self) -> Position:
        """How far all that was handed out goes."""
        if self._reading is not None:
            return self._reading.position
        return self._left_at or Position()

    def status(self) -> FileStatus:
        return FileStatus(self.path, self._status, self._detail, self._lines, self._behind)

    def read(self, now: float, most: int = MOST_LINES) -> Iterator[LogLine]:
        """The lines that are new, about `most` of them; what is left is read the next time."""
        yield from self._stragglers(now)
        budget, before = MOST_AT_ONCE, self._lines
        while budget > 0 and self._lines - before < most:
            if self._reading is None and not self._open():
                return
            reading = self._reading
            if reading is None:
                return
            if budget == MOST_AT_ONCE and not reading.holds():
                self._begun_anew(reading)
                continue
            if budget == MOST_AT_ONCE and self._turned_over_unread(reading):
                continue
            chunk = reading.file.read(min(budget, 1 << 16)) or b""
            budget -= len(chunk)
            yield from self._lines_of(reading, chunk, now)
            if not chunk:
                yield from self._turn_over(reading, now)
                if self._reading is reading:
                    break
        self._look()

    # --- which file

    def _open(self) -> bool:
        """Opens what is to be read next; answers whether there is anything."""
        while self._next:
            path = self._next.pop(0)
            try:
                self._reading = _begun(opened(path), path)
                return True
            except (OSError, EOFError):
                if path != Path(self.path):
                    self._gap()
        file = self._opened_by_name()
        if self._left_at is None:
            if file is None:
                return False
            self._reading = _begun(file, Path(self.path))
            if not self._from_start:
                _skip_to(self._reading, file.seek(0, os.SEEK_END))
            self._from_start = True
            return True
        return self._go_on(file, self._left_at)

    def _go_on(self, file: BinaryIO | None, left: Position) -> bool:
        """Goes on where reading was left before a stop."""
        if file is not None:
            reading = _begun(file, Path(self.path))
            # A device may have another number after a start of the machine: then the mark tells.
            same = reading.inode == left.inode and (left.device in (0, reading.device) or left.mark)
            if same and os.fstat(file.fileno()).st_size >= left.offset and fits(file, left):
                _skip_to(reading, left.offset)
                reading.changed = left.changed or reading.changed
                self._reading, self._left_at = reading, None
                return True
        # Of a file that had nothing in it the inode says little, as another may have it now.
        unmarked = bool(left.changed) and not left.offset
        old = None if unmarked else found_again(self.path, left)
        if old is None:
            unread = written_since(self.path, left.changed) if unmarked else []
            if file is None and not unread:
                return False
            if left.offset:
                self._gap()
            if file is not None:
                file.close()
            self._next, self._left_at = [*unread, Path(self.path)], None
            return self._open()
        if file is not None:
            file.close()
        self._next, self._left_at = later(self.path, old), None
        return self._go_on_in(old, left.offset) or self._open()

    def _go_on_in(self, copy: Sibling, offset: int) -> bool:
        """Goes on in a file that holds what was read before; answers whether it could be opened."""
        try:
            reading = _begun(opened(copy.path), copy.path)
            _skip_to(reading, offset)
        except (OSError, EOFError):
            self._gap()
            return False
        self._reading = reading
        return True

    def _opened_by_name(self) -> BinaryIO | None:
        try:
            file = open(self.path, "rb", buffering=0)  # noqa: SIM115  kept open between turns
        except FileNotFoundError:
            self._cannot("missing", "there is no such file: is the path right?")
            return None
        except IsADirectoryError:
            self._cannot("not-a-file", "this is a directory: name a file in it")
            return None
        except OSError as error:
            may = f"{error.strerror}: the agent runs as {_user()}, which may not read this file"
            self._cannot("unreadable", may)
            return None
        if not os.path.stat.S_ISREG(os.fstat(file.fileno()).st_mode):  # type: ignore[attr-defined]
            file.close()
            self._cannot("not-a-file", "this is no regular file")
            return None
        return file

    def _cannot(self, status: Status, detail: str) -> None:
        self._status, self._detail, self._behind = status, detail, 0

    def _begun_anew(self, reading: _Reading) -> None:
        """The file was truncated, and perhaps written anew: what was copied of it before is read first."""
        copy = found_again(self.path, reading.position)
        reading.file.close()
        self._reading = None
        self._next = [Path(self.path)]
        if copy is None:
            self._gap()
            return
        self._next = [*later(self.path, copy), Path(self.path)]
        self._go_on_in(copy, reading.offset)

    def _turned_over_unread(self, reading: _Reading) -> bool:
        """Whether a file of which nothing was read yet was copied and truncated since: then the copies come first."""
        if reading.offset or reading.rest or reading.path != Path(self.path):
            return False
        copies = written_since(self.path, reading.changed)
        if not copies:
            reading.changed = os.fstat(reading.file.fileno()).st_mtime_ns
            return False
        reading.file.close()
        self._reading, self._next = None, [*copies, Path(self.path)]
        return True

    def _gap(self) -> None:
        self.gaps += 1

    def _turn_over(self, reading: _Reading, now: float) -> Iterator[LogLine]:
        """At the end of a file: goes on to the next one, if there is one."""
        try:
            stat = os.stat(self.path)
            current = (stat.st_dev, stat.st_ino)
        except OSError:
            current = None
        if current == (reading.device, reading.inode):
            return
        if not self._next:
            # It was turned over while it was open: others may have been turned over since.
            held = next((s for s in siblings(self.path) if s.inode == reading.inode), None)
            changed = os.fstat(reading.file.fileno()).st_mtime_ns
            self._next = later(self.path, held or Sibling(Path(self.path), reading.device, reading.inode, changed))
        if current is None and not self._next:
            return
        yield from self._let_go(now)
        self._before, self._reading = (reading, now + STRAGGLERS), None

    def _stragglers(self, now: float) -> Iterator[LogLine]:
        """Lines that were still written to the file before."""
        if self._before is not None:
            reading, until = self._before
            yield from self._lines_of(reading, reading.file.read(MOST_AT_ONCE) or b"", now)
            if not 0 <= until - now <= STRAGGLERS:
                yield from self._let_go(now)

    def _let_go(self, now: float) -> Iterator[LogLine]:
        """Ends with the file before; a last line without an end is one all the same."""
        if self._before is not None:
            reading, _ = self._before
            if reading.rest:
                yield from self._lines_of(reading, b"\n", now)
            reading.file.close()
            self._before = None

    # --- lines

    def _lines_of(self, reading: _Reading, chunk: bytes, now: float) -> Iterator[LogLine]:
        if not chunk:
            return
        data = reading.rest + chunk
        *whole, reading.rest = data.split(b"\n")
        if len(reading.rest) > LONGEST_LINE:
            whole.append(reading.rest)
            reading.rest = b""
        reading.used(data[: len(data) - len(reading.rest)])
        for raw in whole:
            text = raw.rstrip(b"\r").decode("utf-8", "replace")
            if text.strip():
                self._lines += 1
                line = self._line(text, now)
                if line is not None:
                    yield line

    def _line(self, text: str, now: float) -> LogLine | None:
        if self.reader is not None:
            line = self.reader.read(text, now, here)
        else:
            line = parse_line(text, year_of=now, from_local=here)
        if line is None:
            return None
        attributes = {"log.file.path": self.path, **line.attributes}
        moment = line.time if line.time is not None and abs(now - line.time) < 30 * 86_400 else now
        return LogLine(moment, line.body, line.severity, os.path.basename(self.path), attributes)

    def _look(self) -> None:
        reading = self._reading
        if reading is None and not self._open():
            return
        reading = self._reading
        if reading is None:
            return
        try:
            stat = os.stat(self.path) if reading.path.suffix == ".gz" else os.fstat(reading.file.fileno())
        except OSError:
            return
        self._behind = max(0, stat.st_size - reading.offset - len(reading.rest))
        if stat.st_size == 0:
            self._status, self._detail = "empty", "the file is there and readable, and has no line yet"
        else:
            quiet = time.time() - stat.st_mtime
            self._status = "following"
            self._detail = f"last written {quiet:.0f} s ago"
        if self.gaps:
            often = "once" if self.gaps == 1 else f"{self.gaps} times"
            self._detail += f"; {often} lines may be missing: removed or truncated between two readings"


def _begun(file: BinaryIO, path: Path) -> _Reading:
    stat = os.fstat(file.fileno())
    return _Reading(file, path, stat.st_dev, stat.st_ino, 0, changed=stat.st_mtime_ns)


def _skip_to(reading: _Reading, offset: int) -> None:
    """Takes what stands before an offset as read."""
    file = reading.file
    file.seek(0)
    reading.head = file.read(min(HEAD, offset)) or b""
    file.seek(max(0, offset - TAIL))
    reading.tail = file.read(min(TAIL, offset)) or b""
    reading.offset = file.seek(offset)


def here(shown: datetime, near: float) -> float:
    """How times without a zone are read on this host, with its summer time."""
    return min((shown.replace(fold=fold).timestamp() for fold in (0, 1)), key=lambda at: abs(at - near))


def _user() -> str:
    try:
        import pwd

        return pwd.getpwuid(os.geteuid()).pw_name
    except (ImportError, KeyError):
        return str(os.geteuid()) if hasattr(os, "geteuid") else "this user"
