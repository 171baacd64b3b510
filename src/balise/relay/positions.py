"""How far log files of hosts near the relay were read."""

from __future__ import annotations

import json
from pathlib import Path

from balise.api.remote import FilePlace
from balise.durable import write_durably


class Positions:
    """The place in each file of each host, kept in one file of the relay."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._of: dict[str, dict[str, FilePlace]] = _read(path)

    def of(self, host: int) -> dict[str, FilePlace]:
        return self._of.get(str(host), {})

    def keep(self, host: int, places: dict[str, FilePlace]) -> None:
        """Raises OSError when it cannot be written."""
        self._of.setdefault(str(host), {}).update(places)
        write_durably(self._path, json.dumps(self._of).encode())


def _read(path: Path) -> dict[str, dict[str, FilePlace]]:
    try:
        held = json.loads(path.read_text("utf-8"))
        return {host: {file: FilePlace(*place) for file, place in files.items()} for host, files in held.items()}
    except (OSError, ValueError, TypeError, AttributeError):
        return {}
