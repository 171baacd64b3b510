"""The files beside a followed one that hold what it held before: found, and in the order in which they were written."""

from __future__ import annotations

import gzip
import math
import os
import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path
from typing import BinaryIO, cast

from balise.collect.birth import born_at
from balise.collect.position import Position, fits

MOST_SIBLINGS = 2000


def opened(path: Path) -> BinaryIO:
    """A file to be read, unpacked if it is packed. Raises OSError."""
    if path.suffix == ".gz":
        return cast(BinaryIO, gzip.open(path, "rb"))
    return open(path, "rb", buffering=0)


FileId = tuple[int, int]
"""Device and inode."""


@dataclass(frozen=True)
class Sibling:
    """A file beside a followed one that may hold what it held before."""

    path: Path
    device: int
    inode: int
    changed: int
    """When it was written last, nanoseconds."""
    size: int = 0

    @property
    def id(self) -> FileId:
        return self.device, self.inode

    def number(self) -> str:
        """The digits at the end of its name; empty when there are none."""
        found = re.search(r"[.\-_](\d+)(?:\.gz)?$", self.path.name)
        return found[1] if found else ""


Order = Callable[[Sibling], tuple[int, float]]


def _order(known: Sequence[Sibling]) -> Order:
    """The older first. Of two that were written in one moment, as clocks of files tell it, the names say which is
    older: by counting up, as dates do, or by counting down, as `a.log.1` is newer than `a.log.2`."""
    up = _counts_up(known)

    def of(one: Sibling) -> tuple[int, float]:
        digits = one.number()
        if not digits:
            return one.changed, math.inf
        return one.changed, int(digits) if up else -int(digits)

    return of


def _counts_up(known: Sequence[Sibling]) -> bool:
    """Whether the higher number is the newer file, by those of which times tell it, or by how numbers are written."""
    numbered = sorted((s for s in known if s.number()), key=lambda s: s.changed)
    pairs = [(a, b) for a, b in pairwise(numbered) if a.changed != b.changed]
    votes = sum(1 if int(a.number()) < int(b.number()) else -1 for a, b in pairs)
    return votes > 0 or (votes == 0 and any(len(s.number()) >= 6 or s.number().startswith("0") for s in numbered))


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
                    yield Sibling(Path(entry.path), stat.st_dev, stat.st_ino, stat.st_mtime_ns, stat.st_size)
    except OSError:
        return


def found_again(path: str, position: Position) -> Sibling | None:
    """The file beside `path` that holds what was read up to a position, and may hold more."""
    known = list(siblings(path))
    order = _order(known)
    candidates = sorted(known, key=lambda s: (s.inode == position.inode, order(s)), reverse=True)
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


def was_born(file: Path | int, born: int) -> bool:
    """Whether a file may be the one that was made at a moment, unix nanoseconds: nobody knows it of 0."""
    found = born_at(file)
    return not born or not found or born == found


def _size(file: BinaryIO, path: Path) -> int:
    if path.suffix == ".gz":
        return file.seek(0, os.SEEK_END)
    return os.fstat(file.fileno()).st_size


def later(path: str, than: Sibling) -> list[Sibling]:
    """The files turned over after one, the oldest first."""
    known = _turned(path)
    order = _order(known)
    after = [s for s in known if order(s) > order(than) and s.id != than.id]
    return sorted(after, key=order)


def filled_since(path: str, empty: Position) -> Sibling | None:
    """The file that was found empty and turned over since, when there is something in it."""
    for one in siblings(path):
        # It may have been written in the very moment in which it was looked at.
        same = one.inode == empty.inode and empty.device in (0, one.device) and one.changed >= empty.changed
        if same and one.size and was_born(one.path, empty.born):
            return one
    return None


def moment(path: str, changed: int) -> Sibling:
    """Stands for all that was written up to a moment, unix nanoseconds: `later` finds what was turned over since."""
    return Sibling(Path(path), 0, 0, changed)


def _turned(path: str) -> list[Sibling]:
    """Siblings with a number or a date in their names, as those have that hold what was written before."""
    stem = len(Path(path).stem)
    return [s for s in siblings(path) if re.search(r"\d|old", s.path.name[stem:])]
