"""What waits to be delivered, on disk, in order."""

from __future__ import annotations

import logging
import os
import threading
from dataclasses import dataclass
from pathlib import Path

from balise.durable import write_durably

log = logging.getLogger(__name__)
SETTLED = (".metrics", ".logs")


@dataclass(frozen=True)
class Parcel:
    """One request. Its name is the same at every try."""

    path: Path

    @property
    def kind(self) -> str:
        return self.path.suffix[1:]

    @property
    def name(self) -> str:
        return self.path.stem

    def content(self) -> bytes:
        return self.path.read_bytes()


class Spool:
    """A folder of parcels, oldest first, of at most `limit` bytes: beyond it the oldest go, and are counted."""

    def __init__(self, folder: Path, limit: int) -> None:
        self._folder = folder
        self._limit = limit
        self._lock = threading.Lock()
        self.filled = threading.Event()
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        found = sorted(p for p in folder.iterdir() if p.suffix in SETTLED)
        self._waiting = [(p, p.stat().st_size) for p in found]
        self._next = int(found[-1].stem.split("-")[0]) + 1 if found else 1
        self._start = os.urandom(4).hex()
        self.bytes = sum(size for _, size in self._waiting)
        self.dropped = 0
        if self._waiting:
            self.filled.set()

    def __len__(self) -> int:
        return len(self._waiting)

    def put(self, kind: str, content: bytes) -> None:
        """Keeps a parcel durably.

        Raises:
            OSError: the disk is full, or the folder is gone.
        """
        path = self.next_path(kind)
        self.write(path, content)
        self.hand_out(path, len(content))

    def next_path(self, kind: str) -> Path:
        """Where the next parcel goes."""
        with self._lock:
            number, self._next = self._next, self._next + 1
        return self._folder / f"{number:012d}-{self._start}.{kind}"

    def write(self, path: Path, content: bytes) -> None:
        """Keeps a parcel durably, and hands it out to nobody yet. Raises OSError."""
        write_durably(path, content)

    def names(self) -> set[str]:
        """The parcels that wait."""
        with self._lock:
            return {path.stem for path, _ in self._waiting}

    def hand_out(self, path: Path, size: int) -> None:
        """A parcel that is kept may be delivered."""
        with self._lock:
            self._waiting.append((path, size))
            self._waiting.sort()
            self.bytes += size
            while self.bytes > self._limit and len(self._waiting) > 1:
                self._remove(0)
                self.dropped += 1
        self.filled.set()

    def oldest(self) -> Parcel | None:
        with self._lock:
            return Parcel(self._waiting[0][0]) if self._waiting else None

    def done(self, parcel: Parcel) -> None:
        """The parcel was taken, or will never be."""
        with self._lock:
            for place, (path, _) in enumerate(self._waiting[:2]):
                if path == parcel.path:
                    self._remove(place)
                    break
            if not self._waiting:
                self.filled.clear()

    def _remove(self, place: int) -> None:
        path, size = self._waiting.pop(place)
        self.bytes -= size
        try:
            path.unlink(missing_ok=True)
        except OSError as error:
            # It comes again after the next start, and counts once all the same.
            log.error("parcel=%s cannot be removed: %s", path.name, error.strerror)
