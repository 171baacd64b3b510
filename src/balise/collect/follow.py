"""Following text files: what is appended, through rotation and truncation, from where one left off."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, BinaryIO, Literal

from balise.collect.readings import LogLine
from balise.core.syslog import parse_line

if TYPE_CHECKING:
    # Reading kits takes memory that an agent without services keeps.
    from balise.core.kits.logs import LogReader

Status = Literal["following", "empty", "missing", "unreadable", "not-a-file"]
MOST_AT_ONCE = 1 << 20
"""Bytes read of one file in one turn: a flood is read over several turns."""
LONGEST_LINE = 64 << 10


@dataclass(frozen=True)
class Position:
    """How far a file was read: which file, and the offset in bytes."""

    inode: int = 0
    offset: int = 0


@dataclass(frozen=True)
class FileStatus:
    """How following a file goes, in words for people."""

    path: str
    status: Status
    detail: str
    lines: int
    behind: int


class Follower:
    """Follows one file. A file met for the first time is read from its end, unless `from_start`.

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
        self.position = position or Position()
        self._file: BinaryIO | None = None
        self._rest = b""
        self._status: Status = "missing"
        self._detail = "not looked at yet"
        self._lines = 0
        self._behind = 0

    def status(self) -> FileStatus:
        return FileStatus(self.path, self._status, self._detail, self._lines, self._behind)

    def read(self, now: float) -> Iterator[LogLine]:
        """The lines that are new."""
        budget = MOST_AT_ONCE
        while budget > 0:
            if self._file is None and not self._open():
                return
            chunk = self._read_chunk(budget)
            budget -= len(chunk)
            yield from self._lines_of(chunk, now)
            if not chunk and not self._turned_over():
                break
        self._look(now)

    def _open(self) -> bool:
        try:
            file = open(self.path, "rb", buffering=0)  # noqa: SIM115  kept open between turns
        except FileNotFoundError:
            return self._cannot("missing", "there is no such file: is the path right?")
        except IsADirectoryError:
            return self._cannot("not-a-file", "this is a directory: name a file in it")
        except OSError as error:
            return self._cannot(
                "unreadable", f"{error.strerror}: the agent runs as {_user()}, which may not read this file"
            )
        stat = os.fstat(file.fileno())
        if not os.path.stat.S_ISREG(stat.st_mode):  # type: ignore[attr-defined]
            file.close()
            return self._cannot("not-a-file", "this is no regular file")
        if stat.st_ino == self.position.inode and self.position.offset <= stat.st_size:
            file.seek(self.position.offset)
        elif self.position.inode == 0 and not self._from_start:
            file.seek(stat.st_size)
        self._from_start = True
        self._file = file
        self._rest = b""
        self.position = Position(stat.st_ino, file.tell())
        return True

    def _cannot(self, status: Status, detail: str) -> bool:
        self._status, self._detail, self._behind = status, detail, 0
        return False

    def _read_chunk(self, budget: int) -> bytes:
        file = self._file
        if file is None:
            return b""
        size = os.fstat(file.fileno()).st_size
        if size < self.position.offset + len(self._rest):
            # Truncated in place: what is there now is new.
            file.seek(0)
            self._rest = b""
            self.position = Position(self.position.inode, 0)
        return file.read(min(budget, 1 << 16)) or b""

    def _turned_over(self) -> bool:
        """Whether the name now leads to another file; then the old one has been read to its end."""
        try:
            inode = os.stat(self.path).st_ino
        except OSError:
            inode = 0
        if inode == self.position.inode or self._file is None:
            return False
        self._file.close()
        self._file = None
        self.position = Position(-1, 0)
        return inode != 0

    def _lines_of(self, chunk: bytes, now: float) -> Iterator[LogLine]:
        if not chunk:
            return
        data = self._rest + chunk
        *whole, self._rest = data.split(b"\n")
        if len(self._rest) > LONGEST_LINE:
            whole.append(self._rest)
            self._rest = b""
        used = sum(len(line) + 1 for line in whole)
        if self._rest == b"" and not data.endswith(b"\n"):
            used -= 1
        self.position = Position(self.position.inode, self.position.offset + used)
        for raw in whole:
            text = raw.rstrip(b"\r").decode("utf-8", "replace")
            if text.strip():
                self._lines += 1
                line = self._line(text, now)
                if line is not None:
                    yield line

    def _line(self, text: str, now: float) -> LogLine | None:
        if self.reader is not None:
            line = self.reader.read(text, now, offset=-time.timezone)
        else:
            line = parse_line(text, year_of=now, offset_seconds=-time.timezone)
        if line is None:
            return None
        attributes = {"log.file.path": self.path, **line.attributes}
        moment = line.time if line.time is not None and abs(now - line.time) < 30 * 86_400 else now
        return LogLine(moment, line.body, line.severity, os.path.basename(self.path), attributes)

    def _look(self, now: float) -> None:
        del now
        if self._file is None:
            self._open()
            if self._file is None:
                return
        stat = os.fstat(self._file.fileno())
        self._behind = max(0, stat.st_size - self.position.offset - len(self._rest))
        if stat.st_size == 0:
            self._status, self._detail = "empty", "the file is there and readable, and has no line yet"
        else:
            quiet = time.time() - stat.st_mtime
            self._status = "following"
            self._detail = f"last written {quiet:.0f} s ago"


def _user() -> str:
    try:
        import pwd

        return pwd.getpwuid(os.geteuid()).pw_name
    except (ImportError, KeyError):
        return str(os.geteuid()) if hasattr(os, "geteuid") else "this user"
