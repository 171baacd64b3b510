"""How far a file was read, and whether another file is the same one under a new name."""

from __future__ import annotations

import gzip
import os
import re
from collections.abc import Iterator
from dataclasses import dataclass
from hashlib import blake2b
from pathlib import Path
from typing import BinaryIO, cast

HEAD, TAIL = 256, 64
MOST_SIBLINGS = 2000


@dataclass(frozen=True)
class Position:
    """How far a file was read: which file, and the offset in bytes.

    `mark` is a digest of the first bytes of the file and of those before the offset: by it a file is known again when
    it was renamed, copied or packed, and a file that took the place of another is told from it. A position without
    one, or with device 0, was kept by an earlier version. Of a file that had nothing in it, it is known when that was:
    `changed` is when it was written last then, unix nanoseconds.
    """

    inode: int = 0
    offset: int = 0
    device: int = 0
    mark: str = ""
    changed: int = 0


def mark_of(head: bytes, tail: bytes) -> str:
    """The mark of a position: the lengths and digests of what begins a file and of what was read of it last."""
    return f"{len(head)}:{len(tail)}:{blake2b(head + b'|' + tail, digest_size=12).hexdigest()}"


def fits(file: BinaryIO, position: Position) -> bool:
    """Whether a file holds what was read up to a position."""
    if not position.mark:
        return True
    head, tail = (int(part) for part in position.mark.split(":")[:2])
    file.seek(0)
    begin = file.read(head)
    file.seek(position.offset - tail)
    return mark_of(begin, file.read(tail)) == position.mark


def opened(path: Path) -> BinaryIO:
    """A file to be read, unpacked if it is packed. Raises OSError."""
    if path.suffix == ".gz":
        return cast(BinaryIO, gzip.open(path, "rb"))
    return open(path, "rb", buffering=0)


@dataclass(frozen=True)
class Sibling:
    """A file beside a followed one that may hold what it held before."""

    path: Path
    device: int
    inode: int
    changed: int
    """When it was written last, nanoseconds."""

    def order(self) -> tuple[int, int]:
        """The older first; of two written in the same moment the one with the higher number."""
        number = re.search(r"\.(\d+)(?:\.gz)?$", self.path.name)
        return self.changed, -int(number[1]) if number else 0


def siblings(path: str) -> Iterator[Sibling]:
    """The files beside one whose names say that it was turned over to them, as `a.log.1`, `a.log-20261127.gz`,
    `a-1.log`."""
    own = Path(path)
    stem, suffix = re.escape(own.stem), re.escape(own.suffix)
    turned = re.compile(rf"(?:{re.escape(own.name)}[.\-_].*|{stem}[.\-_].*{suffix})(?:\.gz)?")
    try:
        with os.scandir(own.parent) as entries:
            for count, entry in enumerate(entries):
                if count >= MOST_SIBLINGS:
                    return
                if entry.name != own.name and turned.fullmatch(entry.name) and entry.is_file(follow_symlinks=False):
                    stat = entry.stat(follow_symlinks=False)
                    yield Sibling(Path(entry.path), stat.st_dev, stat.st_ino, stat.st_mtime_ns)
    except OSError:
        return


def found_again(path: str, position: Position) -> Sibling | None:
    """The file beside `path` that holds what was read up to a position, and may hold more."""
    candidates = sorted(siblings(path), key=lambda s: (s.inode == position.inode, s.order()), reverse=True)
    for one in candidates:
        same = one.inode == position.inode and position.device in (0, one.device)
        if not same and not position.mark:
            continue
        try:
            with opened(one.path) as file:
                if _size(file, one.path) >= position.offset and fits(file, position):
                    return one
        except (OSError, EOFError):
            continue
    return None


def _size(file: BinaryIO, path: Path) -> int:
    if path.suffix == ".gz":
        return file.seek(0, os.SEEK_END)
    return os.fstat(file.fileno()).st_size


def later(path: str, than: Sibling) -> list[Path]:
    """The files turned over after one, the oldest first."""
    after = [s for s in _turned(path) if s.order() > than.order() and (s.device, s.inode) != (than.device, than.inode)]
    return [one.path for one in sorted(after, key=Sibling.order)]


def written_since(path: str, moment: int) -> list[Path]:
    """The files turned over that were written after a moment, unix nanoseconds; the oldest first."""
    return [one.path for one in sorted(_turned(path), key=Sibling.order) if one.changed > moment]


def _turned(path: str) -> list[Sibling]:
    """Siblings with a number or a date in their names, as those have that hold what was written before."""
    stem = len(Path(path).stem)
    return [s for s in siblings(path) if re.search(r"\d|old", s.path.name[stem:])]
