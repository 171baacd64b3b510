"""The memory that the service may take, and what it does before that is all taken."""

from __future__ import annotations

import ctypes
import logging
import os
import time
from collections.abc import Callable
from typing import Literal

import psutil

from balise.core.quantities import in_words
from balise.server.errors import Refused
from balise.server.keeping.rubbish import look_through
from balise.server.signals import Signal
from balise.store.writer import Busy

log = logging.getLogger(__name__)
MOST, SHARE = 2 << 30, 0.5
"""The ceiling unless another is given: so much, or that share of a smaller machine's memory."""
LEAST = 384 << 20
TIGHT, EASY = 0.72, 0.66
"""From which share of the ceiling on nothing heavy is begun, and below which share it is again."""
LET_GO_AGAIN, LET_GO_RARELY = 10.0, 300.0
"""Seconds between two times that caches are let go, which takes a while and makes what comes next slower; and the most
of it when that gave little back."""
LITTLE = 0.02
"""Of what is held."""
TRIM_EVERY, TRIM_FROM = 60.0, 0.4
"""Seconds between two times that what is free goes back to the system, once so much of the ceiling is held: what
threads leave free would else add up, and count as held."""
_ARENA_MAX, ARENAS = -8, 2
"""The C library's name for how many heaps threads share, and how many that are: one interpreter computes at a time."""
MemoryState = Literal["easy", "tight"]


class Short(Busy):
    """Nothing heavy is begun at the moment, because memory is short."""


class Memory:
    """What the service holds, against its ceiling. `look` is called every second.

    Near the ceiling caches are let go, and heavy questions and large bodies are refused for the moment. Each of those
    that was begun before has a limit of its own, which together fit between there and the ceiling.

    Args:
        ceiling: bytes.
        measure: the bytes that are held in memory.
    """

    def __init__(
        self,
        ceiling: int,
        *,
        measure: Callable[[], int] | None = None,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self.ceiling = ceiling
        self.tight = Signal[None]("memory is tight")
        """What can be had again should be let go."""
        self._measure = measure or _resident
        self._clock = clock
        self._let_go_at = float("-inf")
        self._trimmed_at = clock()
        self._again = LET_GO_AGAIN
        self.held = 0
        self.state: MemoryState = "easy"
        self.refused = 0

    def look(self) -> None:
        """Measures anew; lets caches go when it is tight."""
        self.held = self._measure()
        if self.held > TRIM_FROM * self.ceiling and self._clock() - self._trimmed_at > TRIM_EVERY:
            _trim()
            self._trimmed_at = self._clock()
            self.held = self._measure()
        if self.held > TIGHT * self.ceiling and self._clock() - self._let_go_at > self._again:
            self._let_go()
        share = self.held / self.ceiling
        before, self.state = self.state, "tight" if share > (EASY if self.state == "tight" else TIGHT) else "easy"
        if self.state == "easy":
            self._again = LET_GO_AGAIN
        if before != self.state:
            log.warning("memory is %s: %d of %d bytes", self.state, self.held, self.ceiling)

    def _let_go(self) -> None:
        before = self.held
        self.tight.tell(None)
        _give_back()
        self.held = self._measure()
        self._let_go_at = self._clock()
        gave = before - self.held > LITTLE * before
        self._again = LET_GO_AGAIN if gave else min(2 * self._again, LET_GO_RARELY)

    def check_question(self) -> None:
        """Raises Refused 503 when no heavy question may be begun."""
        if not self._has_room():
            self.refused += 1
            raise Refused(503, f"{self.words} Ask for less, or again in a moment.", headers={"Retry-After": "10"})

    def check_body(self) -> None:
        """Raises Short when no large body may be read."""
        if not self._has_room():
            self.refused += 1
            raise Short(self.words)

    def _has_room(self) -> bool:
        """Whether something heavy may be begun, by what is held at this moment."""
        self.held = self._measure()
        return self.state == "easy" and self.held <= TIGHT * self.ceiling

    @property
    def words(self) -> str:
        held, ceiling = in_words(float(self.held), "By"), in_words(float(self.ceiling), "By")
        return f"The console holds {held} of the {ceiling} of memory that it may: nothing heavy is begun."


def own_ceiling() -> int:
    """The ceiling on this machine, bytes."""
    return max(LEAST, min(MOST, int(SHARE * psutil.virtual_memory().total)))


def _resident() -> int:
    with open("/proc/self/statm", "rb") as file:
        return int(file.read().split()[1]) * os.sysconf("SC_PAGE_SIZE")


def share_heaps() -> None:
    """Has threads share their heaps, before there are any: each would keep what it once needed."""
    try:
        ctypes.CDLL(None).mallopt(_ARENA_MAX, ARENAS)
    except (OSError, AttributeError):
        log.debug("this system's C library knows no heaps of threads")


def _give_back() -> None:
    """Has the allocator give back to the system what is free."""
    look_through()
    _trim()


def _trim() -> None:
    try:
        ctypes.CDLL(None).malloc_trim(0)
    except (OSError, AttributeError):
        log.debug("this system's C library does not give memory back")
