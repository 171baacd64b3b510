"""How far followed files were read and what was read of them kept: written only after it is in the spool."""

from __future__ import annotations

import json
import logging
from collections.abc import Collection, Mapping
from pathlib import Path
from threading import Lock

from balise.collect.position import Position
from balise.durable import write_durably

log = logging.getLogger(__name__)
MOST = 1000
"""Places remembered; beyond it those that were kept longest ago go."""


class Places:
    """Positions by path, in one file; several threads keep theirs, each with its own lines.

    An *intent* says how far a parcel will go that is being written: after a kill, whether it is there decides.
    """

    def __init__(self, path: Path) -> None:
        self._path = path
        self._lock = Lock()
        self._held: dict[str, Position] = {}
        self._intents: dict[str, dict[str, Position]] = {}
        try:
            content = json.loads(path.read_text("utf-8"))
            # An earlier version kept the places alone.
            places, intents = (content["places"], content["intents"]) if "intents" in content else (content, {})
            self._held = {name: _position(*kept) for name, kept in places.items()}
            self._intents = {p: {n: _position(*kept) for n, kept in held.items()} for p, held in intents.items()}
        except (OSError, ValueError, TypeError, AttributeError, KeyError):
            # Nothing was followed yet, or it cannot be told: files are read from their ends.
            self._held, self._intents = {}, {}

    def get(self, path: str) -> Position | None:
        return self._held.get(path)

    def differs(self, positions: Mapping[str, Position]) -> bool:
        """Whether any of these is another than what is kept."""
        return any(place.inode and self._held.get(path) != place for path, place in positions.items())

    def intend(self, parcel: str, positions: Mapping[str, Position]) -> None:
        """A parcel is going to be written that goes so far. Raises OSError when that cannot be written."""
        with self._lock:
            self._intents[parcel] = {path: place for path, place in positions.items() if place.inode}
            try:
                self._write()
            except OSError:
                del self._intents[parcel]
                raise

    def settle(self, parcel: str) -> None:
        """The parcel is there: it is read so far. If that cannot be written, the intent still says so."""
        with self._lock:
            self._adopt(parcel)
            try:
                self._write()
            except OSError as error:
                log.warning("places cannot be written, the last intent holds: %s", error.strerror)

    def give_up(self, parcel: str) -> None:
        """The parcel was not written."""
        with self._lock:
            self._intents.pop(parcel, None)

    def settle_all(self, parcels: Collection[str]) -> None:
        """After a start: of what was intended, that holds of which the parcel is there."""
        with self._lock:
            if not self._intents:
                return
            for parcel in sorted(self._intents):
                if parcel in parcels:
                    self._adopt(parcel)
            self._intents.clear()
            self._write()

    def _adopt(self, parcel: str) -> None:
        new = {path: place for path, place in self._intents.pop(parcel, {}).items() if self._held.get(path) != place}
        for path in new:
            self._held.pop(path, None)
        self._held = dict([*self._held.items(), *new.items()][-MOST:])

    def _write(self) -> None:
        content = {
            "places": {name: _told(place) for name, place in self._held.items()},
            "intents": {p: {n: _told(place) for n, place in held.items()} for p, held in self._intents.items()},
        }
        write_durably(self._path, json.dumps(content).encode())


def _told(place: Position) -> tuple[int, int, int, str, int, int]:
    return place.inode, place.offset, place.device, place.mark, place.changed, place.born


def _position(inode: int, offset: int, device: int = 0, mark: str = "", changed: int = 0, born: int = 0) -> Position:
    """A kept position; those of earlier versions have two numbers."""
    return Position(int(inode), int(offset), int(device), str(mark), int(changed), int(born))
