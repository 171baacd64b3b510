"""Results of probes that wait for the console: bounded, and kept on disk while it is away."""

from __future__ import annotations

import contextlib
from collections import deque
from pathlib import Path
from threading import Lock

from pydantic import TypeAdapter

from balise.api.probes import ProbeResult
from balise.durable import write_durably

MOST = 5000
"""Results kept; beyond it the oldest go."""
_KEPT = TypeAdapter(list[tuple[str, ProbeResult]])


class Results:
    """What probes found, oldest first. Probes add from their own threads."""

    def __init__(self, path: Path, most: int = MOST) -> None:
        self._path = path
        self._lock = Lock()
        self._next = 0
        self._waiting: deque[tuple[int, str, ProbeResult]] = deque(maxlen=most)
        self._on_disk = False
        with contextlib.suppress(OSError, ValueError):
            for probe, result in _KEPT.validate_json(path.read_bytes()):
                self.add(probe, result)
            self._on_disk = True

    def __len__(self) -> int:
        return len(self._waiting)

    def add(self, probe: str, result: ProbeResult) -> None:
        with self._lock:
            self._waiting.append((self._next, probe, result))
            self._next += 1

    def oldest(self, most: int) -> tuple[list[tuple[str, ProbeResult]], int]:
        """The oldest results, and the mark to give to `arrived` when they have."""
        with self._lock:
            chosen = [one for one, _ in zip(self._waiting, range(most), strict=False)]
        return [(probe, result) for _, probe, result in chosen], chosen[-1][0] if chosen else -1

    def arrived(self, mark: int) -> None:
        """Lets go of what has arrived, and of what is on disk when nothing waits any more."""
        with self._lock:
            while self._waiting and self._waiting[0][0] <= mark:
                self._waiting.popleft()
        if self._on_disk and not self._waiting:
            self._path.unlink(missing_ok=True)
            self._on_disk = False

    def keep(self) -> None:
        """Writes what waits to disk. Raises OSError when that fails."""
        with self._lock:
            waiting = [(probe, result) for _, probe, result in self._waiting]
        if waiting:
            write_durably(self._path, _KEPT.dump_json(waiting))
            self._on_disk = True
