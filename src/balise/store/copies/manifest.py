"""What a backup holds, in a file of its own beside it: `balise-backup.json`."""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import BinaryIO

from balise.durable import write_durably
from balise.store.folders import DataError

FILE, UNFINISHED = "balise-backup.json", "balise-backup.unfinished.json"
FORM = 1
BLOCK = 1 << 20
MOST_NOTE = 16 << 20
_PATH = re.compile(r"[\w.-]+(/[\w.-]+)?")

Told = Callable[[int], None]
"""Is told how many bytes more were done."""


@dataclass(frozen=True)
class Copied:
    """One file: its place below the folder, its length in bytes, its SHA-256 in hexadecimal, and what its source was
    known by when it was copied."""

    path: str
    size: int
    digest: str
    mark: str = ""


@dataclass
class Manifest:
    """`at` is the moment in unix seconds of which everything is; while it is not finished, when it was begun."""

    version: str
    at: float
    files: list[Copied] = field(default_factory=list)

    @property
    def size(self) -> int:
        """Bytes of all files."""
        return sum(one.size for one in self.files)

    def holds(self, path: str) -> bool:
        return any(one.path == path for one in self.files)

    def write(self, path: Path) -> None:
        text = json.dumps({"form": FORM, **asdict(self)}, indent=1)
        write_durably(path, text.encode())

    @classmethod
    def read(cls, path: Path) -> Manifest:
        """Raises DataError when there is none, or it is not what was written."""
        try:
            if path.stat().st_size > MOST_NOTE:
                raise ValueError("it is too large")
            told = json.loads(path.read_text("utf-8"))
            if told["form"] > FORM:
                raise DataError(f"{path.parent} was made by a later version of Balise ({told['version']}): use that")
            made = cls(str(told["version"]), float(told["at"]), [Copied(**one) for one in told["files"]])
            for one in made.files:
                if not _PATH.fullmatch(one.path) or ".." in one.path.split("/"):
                    raise ValueError(f"{one.path!r} is no place in a backup")
        except FileNotFoundError:
            raise DataError(f"there is no backup in {path.parent}: {path.name} is missing") from None
        except (OSError, ValueError, KeyError, TypeError) as error:
            raise DataError(f"{path} cannot be read: {error}") from None
        return made


def copied_through(source: BinaryIO, target: BinaryIO | None, told: Told) -> tuple[int, str]:
    """Reads a file to its end, into another if there is one; its length and digest."""
    digest, size = hashlib.sha256(), 0
    while block := source.read(BLOCK):
        digest.update(block)
        size += len(block)
        if target is not None:
            target.write(block)
        told(len(block))
    return size, digest.hexdigest()
