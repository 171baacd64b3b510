"""Room on the console's disk: measured, some of it kept for people, and told of before it is gone."""

from __future__ import annotations

import contextlib
import logging
import os
import shutil
import threading
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from balise.core.quantities import in_words
from balise.server.signals import Signal
from balise.store.writer import Busy

log = logging.getLogger(__name__)
RoomState = Literal["enough", "low", "full"]
KEPT_BYTES, KEPT_SHARE = 256 << 20, 0.05
"""Nothing more is taken in when less is free than this: so much, or that share of a smaller disk."""
RESERVE_BYTES, RESERVE_SHARE = 64 << 20, 0.02
"""A file that is given up when others have taken the rest: people can sign in, read, and make room then."""
LOW = 4.0
"""A disk is low when less than so many times of what is kept is free."""
BACK = 1.25
"""How much more has to be free for a better state to come back."""
NAME = "reserve"


@dataclass(frozen=True)
class RoomNews:
    """A new state of the disk, and what to say of it."""

    state: RoomState
    words: str


class Full(Busy):
    """The disk is full: nothing is taken in until there is room again."""


class Space:
    """The room left on the disk of a folder. `look` is called every few seconds, and when a write found none."""

    def __init__(self, folder: Path) -> None:
        self._place = folder / NAME
        self._folder = folder
        self.changed = Signal[RoomNews]("room on the disk")
        self._lock = threading.Lock()
        self.state: RoomState = "enough"
        self._told: RoomState = "enough"
        self.free = self.total = 0
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        self._measure()
        if self.free < self._kept / 4:
            self._give_up_reserve()
        self.state = self._judged()

    @property
    def _kept(self) -> float:
        return min(float(KEPT_BYTES), KEPT_SHARE * self.total)

    def check(self) -> None:
        """Raises Full when nothing may be taken in."""
        if self.state == "full":
            raise Full(self.words)

    def spent(self) -> bool:
        """A write found no room: the reserve is given up; answers whether there was one, so that trying again helps."""
        with self._lock:
            given = self._give_up_reserve()
        self.look()
        return given

    def look(self) -> None:
        """Measures anew, gives the reserve up or takes it again, and tells of a new state."""
        with self._lock:
            self._measure()
            if self.free < self._kept / 4:
                self._give_up_reserve()
            self.state = state = self._judged()
            if state != "full" and self.free > 2 * self._kept:
                self._take_reserve()
        if state != self._told:
            log.warning("room on the disk: %s (%d bytes free)", state, self.free)
            if self.changed.tell(RoomNews(state, self.words)):
                self._told = state

    @property
    def words(self) -> str:
        """What to say of the room that is left, and what to do."""
        free, total = in_words(float(self.free), "By"), in_words(float(self.total), "By")
        if self.state == "enough":
            return f"there is room again on the console's disk: {free} of {total} are free"
        if self.state == "low":
            return f"the console's disk is getting full: {free} of {total} are free; nothing is lost yet. {_REMEDY}"
        return (
            f"the console's disk is full: {free} of {total} are free, which is kept for people. Nothing new is taken "
            f"in: agents and relays keep what they have and send it later. {_REMEDY}"
        )

    def _judged(self) -> RoomState:
        full = self._kept * (BACK if self.state == "full" else 1.0)
        low = self._kept * LOW * (BACK if self.state != "enough" else 1.0)
        return "full" if self.free < full else "low" if self.free < low else "enough"

    def _measure(self) -> None:
        usage = shutil.disk_usage(self._folder)
        self.free, self.total = usage.free, usage.total

    def _take_reserve(self) -> None:
        if self._place.exists():
            return
        size = int(min(RESERVE_BYTES, RESERVE_SHARE * self.total))
        try:
            with self._place.open("wb") as file:
                os.posix_fallocate(file.fileno(), 0, max(1, size))
        except OSError:
            # Not to be had on this file system, or gone in the meantime: half a reserve is none.
            self._place.unlink(missing_ok=True)

    def _give_up_reserve(self) -> bool:
        with contextlib.suppress(FileNotFoundError):
            self._place.unlink()
            log.warning("the reserve on the disk is given up")
            self._measure()
            return True
        return False


_REMEDY = "Make room: keep things for fewer days (balise keeping set), erase hosts, or give the disk more."
