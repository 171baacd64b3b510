"""Following text files: what is appended, through rotation and truncation, from where one left off."""

from __future__ import annotations

import os
import time
from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO, Protocol

from balise.api.sources import SourceState
from balise.collect.birth import born_at
from balise.collect.paths import look_at
from balise.collect.position import HEAD, TAIL, Position, fits, mark_of
from balise.collect.readings import LogLine
from balise.collect.records import Record, Records
from balise.collect.siblings import (
    FileId,
    Sibling,
    filled_since,
    found_again,
    later,
    moment,
    opened,
    siblings,
    was_born,
)
from balise.core.localtime import FromLocal
from balise.core.syslog import Line, parse_line

if TYPE_CHECKING:
    from balise.core.events.leaving import Leaving

MOST_AT_ONCE = 1 << 20
"""Bytes read of one file in one turn: a flood is read over several turns."""
MOST_LINES = 100_000
MUCH_BEHIND = 4 << 20
"""Bytes still to be read from which on a file is held back: more is written than is read."""
LAST_RECORD = 5.0
"""Seconds after which a record of several lines is whole that nothing follows."""
STRAGGLERS = 60.0
"""Seconds for which a file that was turned over is still looked at: who writes it may not have noticed."""
LOOKS = 10
"""Times that it is looked for what comes next, while files are being turned over."""
ENDED = 16
"""Files read to their ends that are known again when they are written later."""


class LineReader(Protocol):
    """Reads one line as an event; None when lines of its kind are only counted."""

    def read(self, text: str, now: float, from_local: FromLocal) -> Line | None: ...


@dataclass(frozen=True)
class FileStatus:
    """How following a file goes, in words for people. Counts are since it is followed; times in unix seconds."""

    path: str
    status: SourceState
    detail: str
    lines: int
    behind: int
    near: list[str]
    last_at: float | None
    bytes: int


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
    rest_since: float = 0.0
    changed: int = 0
    """When it was written last as it was looked at, unix nanoseconds; while nothing of it is read, and at its end."""
    born: int = 0

    @property
    def id(self) -> FileId:
        return self.device, self.inode

    @property
    def position(self) -> Position:
        if not self.offset:
            return Position(self.inode, 0, self.device, "", self.changed, self.born)
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

    `reader` reads its lines as a kit or a parser says; without one they are read as what they look like. `records`
    says what a record is, and `leaving` which lines are handed out, and how.
    """

    def __init__(
        self,
        path: str,
        *,
        from_start: bool = False,
        position: Position | None = None,
        reader: LineReader | None = None,
        records: Records | None = None,
        leaving: Leaving | None = None,
    ) -> None:
        self.path = path
        self.reader = reader
        self._records = records or Records()
        self._leaving = leaving
        self._from_start = from_start or position is not None
        self._old_read = not from_start or position is not None
        self._left_at = position if position is not None and position.inode > 0 else None
        self._reading: _Reading | None = None
        self._before: tuple[_Reading, float] | None = None
        """The file before, and until when it is looked at: who writes it may not have noticed yet."""
        self._ended: _Reading | None = None
        """The file that was read to its end before the one that is read now."""
        self._after: Sibling | None = None
        """While none is read: the next one was turned over after this one."""
        self._done: deque[tuple[FileId, int]] = deque(maxlen=ENDED)
        """Files that were read to their ends, each with its birth."""
        self._status: SourceState = "nothing-matches"
        self._detail = "not looked at yet"
        self._near: list[str] = []
        self._last_at: float | None = None
        self._bytes = 0
        self._lines = 0
        self._behind = 0
        self.gaps = 0

    @property
    def position(self) -> Position:
        """How far all that was handed out goes. As long as nothing was read of a file, it is the end of the one before:
        by it all that was turned over since is found again."""
        reading, ended = self._reading, self._ended
        if ended is not None and (reading is None or not reading.offset):
            return replace(ended.position, changed=ended.changed)
        return reading.position if reading is not None else self._left_at or Position()

    def status(self) -> FileStatus:
        return FileStatus(
            self.path,
            self._status,
            self._detail,
            self._lines,
            self._behind,
            self._near,
            self._last_at,
            self._bytes,
        )

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
                yield from self._last_record(reading, now)
                yield from self._turn_over(reading, now)
                if self._reading is reading:
                    break
        self._look()

    # --- which file

    def _open(self) -> bool:
        """Opens what is to be read next; answers whether there is anything."""
        for _ in range(LOOKS):
            # It is opened before others are looked for: what is turned over meanwhile is then among them.
            file = self._opened_by_name()
            if self._left_at is not None:
                if self._go_on(file, self._left_at):
                    return True
                if file is None and (self._after is None or not self._newer(self._after)):
                    return False
                self._left_at = None
            found = self._open_turned_over(file)
            if found is not False and file is not None:
                file.close()
            if found:
                return True
            if found is None:
                continue
            if file is None:
                return False
            if self._old_read or not self._from_start:
                self._begin(file)
                return True
            # A path that is new: what was turned over before comes first, unpacked and once.
            file.close()
            self._old_read, self._after = True, moment(self.path, 0)
        return False

    def _begin(self, file: BinaryIO) -> None:
        """Begins with the file that has the name now."""
        self._reading, self._after = _begun(file, Path(self.path)), None
        if not self._from_start:
            _skip_to(self._reading, file.seek(0, os.SEEK_END))
        self._from_start = self._old_read = True

    def _open_turned_over(self, current: BinaryIO | None) -> bool | None:
        """Opens the oldest that was turned over and not read, unless there is none before the current one. None when
        it is to be looked again, as files have other names by now."""
        if self._after is None:
            return False
        for one in self._newer(self._after):
            if current is not None and one.id == _id_of(current):
                return False
            try:
                file = opened(one.path)
            except FileNotFoundError:
                return None
            except (OSError, EOFError):
                self._gap()
                self._after = one
                continue
            if one.id != _id_of(file):
                file.close()
                return None
            self._reading, self._after = _begun(file, one.path), None
            return True
        return False

    def _go_on(self, file: BinaryIO | None, left: Position) -> bool:
        """Goes on where reading was left before a stop; answers whether that was found. If not, it is known after
        what the next one was turned over."""
        if file is not None:
            reading = _begun(file, Path(self.path))
            # A device may have another number after a start of the machine: then the mark tells.
            same = reading.inode == left.inode and (left.device in (0, reading.device) or left.mark)
            same = same and was_born(file.fileno(), left.born)
            if same and os.fstat(file.fileno()).st_size >= left.offset and fits(file, left):
                _skip_to(reading, left.offset)
                reading.changed = left.changed or reading.changed
                self._reading, self._left_at = reading, None
                return True
        # Of a file that had nothing in it the inode says little, as another may have it now.
        unmarked = bool(left.changed) and not left.offset
        old = filled_since(self.path, left) if unmarked else found_again(self.path, left)
        if old is not None and self._go_on_in(old, left.offset):
            self._left_at = None
            if file is not None:
                file.close()
            return True
        if old is None:
            self._after = moment(self.path, left.changed) if left.changed else None
            if left.offset and not left.changed and file is not None:
                self._gap()
        return False

    def _go_on_in(self, copy: Sibling, offset: int) -> bool:
        """Goes on in a file that holds what was read before; answers whether it could be opened."""
        try:
            reading = _begun(opened(copy.path), copy.path)
            _skip_to(reading, offset)
        except (OSError, EOFError):
            self._gap()
            self._after = copy
            return False
        self._reading = reading
        return True

    def _opened_by_name(self) -> BinaryIO | None:
        found = look_at(self.path)
        if found.state not in ("following", "empty"):
            self._status, self._detail, self._near, self._behind = found.state, found.message, found.near, 0
            return None
        try:
            return open(self.path, "rb", buffering=0)
        except OSError as error:
            self._status, self._detail, self._behind = "unreadable", str(error.strerror), 0
            return None

    def _begun_anew(self, reading: _Reading) -> None:
        """The file was truncated, and perhaps written anew: what was copied of it before is read first."""
        copy = found_again(self.path, reading.position)
        reading.file.close()
        self._reading = self._ended = self._after = None
        if copy is None:
            self._gap()
        else:
            self._go_on_in(copy, reading.offset)

    def _turned_over_unread(self, reading: _Reading) -> bool:
        """Whether a file of which nothing was read yet was copied and truncated since: then the copies come first."""
        if reading.offset or reading.rest or reading.path != Path(self.path):
            return False
        before, since = _all_read_until(os.fstat(reading.file.fileno())), moment(self.path, reading.changed)
        if all(one.id == reading.id for one in self._newer(since)):
            reading.changed = before
            return False
        reading.file.close()
        self._reading, self._after = None, since
        return True

    def _newer(self, than: Sibling) -> list[Sibling]:
        """The files turned over after one, without those that were read and are still written."""
        return [one for one in later(self.path, than) if not self._was_read(one)]

    def _was_read(self, one: Sibling) -> bool:
        if self._before is not None and one.id == self._before[0].id:
            return True
        known = [born for file, born in self._done if file == one.id]
        return bool(known) and born_at(one.path) in known

    def _gap(self) -> None:
        self.gaps += 1

    def _turn_over(self, reading: _Reading, now: float) -> Iterator[LogLine]:
        """At the end of a file: goes on to the next one, if there is one."""
        try:
            stat = os.stat(self.path)
            current = (stat.st_dev, stat.st_ino)
        except OSError:
            current = None
        if current == reading.id:
            return
        reading.changed = os.fstat(reading.file.fileno()).st_mtime_ns
        held = next((s for s in siblings(self.path) if s.id == reading.id), None)
        after = held or Sibling(reading.path, *reading.id, reading.changed)
        if current is None and not self._newer(after):
            return
        yield from self._let_go(now)
        self._before, self._reading, self._ended, self._after = (reading, now + STRAGGLERS), None, reading, after
        if reading.born:
            self._done.append((reading.id, reading.born))

    def _stragglers(self, now: float) -> Iterator[LogLine]:
        """Lines that were still written to the file before."""
        if self._before is not None:
            reading, until = self._before
            reading.changed = os.fstat(reading.file.fileno()).st_mtime_ns
            yield from self._lines_of(reading, reading.file.read(MOST_AT_ONCE) or b"", now)
            if not 0 <= until - now <= STRAGGLERS:
                yield from self._let_go(now)

    def _let_go(self, now: float) -> Iterator[LogLine]:
        """Ends with the file before; a last line without an end is one all the same."""
        if self._before is not None:
            reading, _ = self._before
            if reading.rest:
                yield from self._lines_of(reading, b"\n", now, last=True)
            reading.file.close()
            self._before = None

    # --- lines

    def _lines_of(self, reading: _Reading, chunk: bytes, now: float, *, last: bool = False) -> Iterator[LogLine]:
        if not chunk and not last:
            return
        data = reading.rest + chunk
        records, used = self._records.split(data, last=last)
        if used or not reading.rest:
            reading.rest_since = now
        reading.rest = data[used:]
        reading.used(data[:used])
        self._bytes += used
        for record in records:
            self._lines += 1
            self._last_at = now
            line = self._line(record, now)
            if line is not None:
                yield line

    def _last_record(self, reading: _Reading, now: float) -> Iterator[LogLine]:
        """A record of several lines that nothing followed for a while is whole."""
        if self._records.of_several and reading.rest and now - reading.rest_since > LAST_RECORD:
            yield from self._lines_of(reading, b"", now, last=True)

    def _line(self, record: Record, now: float) -> LogLine | None:
        if self.reader is not None:
            line = self.reader.read(record.text, now, here)
        else:
            line = parse_line(record.text, year_of=now, from_local=here)
        if line is None:
            return None
        body, attributes = line.body, {"log.file.path": self.path, **line.attributes}
        source = os.path.basename(self.path)
        if record.cut:
            attributes["balise.cut"] = "the rest of the line"
        if self._leaving is not None:
            left = self._leaving.over(source, line.severity, body, attributes)
            if left is None:
                return None
            body, attributes = left
        moment = line.time if line.time is not None and abs(now - line.time) < 30 * 86_400 else now
        return LogLine(moment, body, line.severity, source, attributes)

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
            self._status, self._detail = "empty", "the file is there and can be read; nothing is written to it yet"
        else:
            quiet = time.time() - stat.st_mtime
            self._status = "held-back" if self._behind > MUCH_BEHIND else "following"
            self._detail = f"last written {quiet:.0f} s ago"
            if self._status == "held-back":
                self._detail = "more is written than may be read at once; nothing is lost, but it comes late"
        if self._leaving is not None and self._leaving.left_out:
            self._detail += f"; {self._leaving.left_out} of its lines not sent, as the plan's filter says"
        if self.gaps:
            often = "once" if self.gaps == 1 else f"{self.gaps} times"
            self._detail += f"; {often} lines may be missing: removed or truncated between two readings"


def _begun(file: BinaryIO, path: Path) -> _Reading:
    stat = os.fstat(file.fileno())
    return _Reading(file, path, stat.st_dev, stat.st_ino, 0, changed=_all_read_until(stat), born=born_at(file.fileno()))


def _all_read_until(unread: os.stat_result) -> int:
    """What was written up to this moment, unix nanoseconds, is not in a file of which nothing is read: what is in it
    may be copied and truncated before it is."""
    return unread.st_mtime_ns - (1 if unread.st_size else 0)


def _id_of(file: BinaryIO) -> FileId:
    stat = os.fstat(file.fileno())
    return stat.st_dev, stat.st_ino


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
