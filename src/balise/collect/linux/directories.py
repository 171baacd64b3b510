"""How large chosen directories are, and how old what lies in them: within bounds of time and of what is read."""

from __future__ import annotations

import os
import stat
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from balise.collect.readings import CollectorProblem, Found, Meaning, Reading

MOST_ENTRIES = 500_000
MOST_SECONDS = 120.0
A_SECOND = 10_000
"""Entries looked at in a second at most, so that a large tree never keeps a disk busy."""
PAUSE_EVERY = 500
BLOCK = 512
"""Bytes of a block in a file's st_blocks (stat(2))."""


@dataclass
class DirectoryLook:
    """What lies below a directory: bytes on the disk, files, and when the oldest and newest were written."""

    size: int = 0
    files: int = 0
    entries: int = 0
    oldest: float | None = None
    newest: float | None = None
    unreadable: int = 0
    whole: bool = True

    def take(self, held: os.stat_result) -> None:
        self.size += held.st_blocks * BLOCK
        if stat.S_ISREG(held.st_mode):
            self.files += 1
            self.oldest = held.st_mtime if self.oldest is None else min(self.oldest, held.st_mtime)
            self.newest = held.st_mtime if self.newest is None else max(self.newest, held.st_mtime)


def directory_look(
    path: str,
    *,
    most_entries: int = MOST_ENTRIES,
    most_seconds: float = MOST_SECONDS,
    sleep: Callable[[float], None] = time.sleep,
) -> DirectoryLook:
    """Looks at everything below a directory that is on the same filesystem; links are not followed, and a file of
    several names counts once.

    Raises:
        OSError: the directory itself is not there or may not be read.
    """
    out = DirectoryLook()
    began, device = time.monotonic(), os.stat(path).st_dev
    linked: set[int] = set()
    waiting = [path]
    os.scandir(path).close()
    while waiting:
        try:
            entries = os.scandir(waiting.pop())
        except OSError:
            out.unreadable += 1
            continue
        with entries:
            for entry in entries:
                passed = time.monotonic() - began
                if out.entries >= most_entries or passed > most_seconds:
                    out.whole = False
                    return out
                out.entries += 1
                if out.entries % PAUSE_EVERY == 0 and out.entries / A_SECOND > passed:
                    sleep(out.entries / A_SECOND - passed)
                try:
                    held = entry.stat(follow_symlinks=False)
                except OSError:
                    continue
                if held.st_dev != device or (held.st_nlink > 1 and held.st_ino in linked):
                    continue
                if stat.S_ISDIR(held.st_mode):
                    waiting.append(entry.path)
                elif held.st_nlink > 1:
                    linked.add(held.st_ino)
                out.take(held)
    return out


class Directories:
    """The directories that a plan names."""

    name = "directories"
    meanings = {
        "balise.directory.size": Meaning("By", "gauge", "Space that what lies below a directory takes on its disk"),
        "balise.directory.files": Meaning("{file}", "gauge", "Files below a directory"),
        "balise.directory.oldest": Meaning("s", "gauge", "Seconds since the oldest file below a directory was written"),
        "balise.directory.newest": Meaning("s", "gauge", "Seconds since the newest file below a directory was written"),
    }

    def __init__(self, paths: Sequence[str], look: Callable[[str], DirectoryLook] = directory_look) -> None:
        self._paths = paths
        self._look = look

    def read(self, now: float) -> Iterator[Found]:
        problems = []
        for path in self._paths:
            try:
                found = self._look(path)
            except OSError as error:
                problems.append(f"{path}: {error.strerror}")
                continue
            named = {"balise.directory": path}
            yield Reading("balise.directory.size", float(found.size), named)
            yield Reading("balise.directory.files", float(found.files), named)
            if found.oldest is not None and found.newest is not None:
                yield Reading("balise.directory.oldest", max(0.0, now - found.oldest), named)
                yield Reading("balise.directory.newest", max(0.0, now - found.newest), named)
            if not found.whole:
                problems.append(
                    f"{path}: too large to be looked at whole: stopped after {found.entries} entries, the size is at "
                    "least what is told"
                )
            elif found.unreadable:
                problems.append(f"{path}: {found.unreadable} directories below may not be read by the agent's user")
        if problems:
            raise CollectorProblem("; ".join(problems))
