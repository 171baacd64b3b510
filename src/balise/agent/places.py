"""How far followed files were read and what was read of them kept: written only after it is in the spool."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from threading import Lock

from balise.collect.files import write_durably
from balise.collect.position import Position

MOST = 1000
"""Places remembered; beyond it those that were kept longest ago go."""


class Places:
    """Positions by path, in one file; several threads keep theirs, each after its own lines are durable."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._lock = Lock()
        self._held: dict[str, Position] = {}
        try:
            content = json.loads(path.read_text("utf-8"))
            self._held = {name: _position(*kept) for name, kept in content.items()}
        except (OSError, ValueError, TypeError, AttributeError):
            # Nothing was followed yet, or it cannot be told: files are read from their ends.
            return

    def get(self, path: str) -> Position | None:
        return self._held.get(path)

    def keep(self, positions: Mapping[str, Position]) -> None:
        """Remembers how far something was read. Raises OSError when that cannot be written."""
        with self._lock:
            new = {path: place for path, place in positions.items() if place.inode and self._held.get(path) != place}
            if not new:
                return
            for path in new:
                self._held.pop(path, None)
            self._held = dict([*self._held.items(), *new.items()][-MOST:])
            content = {name: (p.inode, p.offset, p.device, p.mark, p.changed) for name, p in self._held.items()}
            write_durably(self._path, json.dumps(content).encode())


def _position(inode: int, offset: int, device: int = 0, mark: str = "", changed: int = 0) -> Position:
    """A kept position; those of earlier versions have two numbers."""
    return Position(int(inode), int(offset), int(device), str(mark), int(changed))
