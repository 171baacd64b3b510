"""How far a file was read, and whether a file is the one of which that is known."""

from __future__ import annotations

from dataclasses import dataclass
from hashlib import blake2b
from typing import BinaryIO

HEAD, TAIL = 256, 64


@dataclass(frozen=True)
class Position:
    """How far a file was read: which file, and the offset in bytes.

    `mark` is a digest of the first bytes of the file and of those before the offset: by it a file is known again when
    it was renamed, copied or packed, and a file that took the place of another is told from it. A position without
    one, or with device 0, was kept by an earlier version.

    `changed` is when the file was written last, unix nanoseconds: of one that had nothing in it, and of one that was
    turned over and read to its end; else 0. `born` is when a file that had nothing in it was made, as its inode may be
    another file's by now (0 where the filesystem does not tell).
    """

    inode: int = 0
    offset: int = 0
    device: int = 0
    mark: str = ""
    changed: int = 0
    born: int = 0


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
