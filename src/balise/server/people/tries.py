"""Slowing down those who try names and passwords, without keeping anybody out for good."""

from __future__ import annotations

import threading
import time
from collections import OrderedDict, deque
from collections.abc import Iterator
from contextlib import contextmanager

from argon2 import PasswordHasher
from argon2.exceptions import VerificationError

from balise.server.errors import Refused

WITHIN = 300.0
"""Seconds over which tries are counted."""
OF_ONE, OF_NAME, OF_ADDRESS, OF_ALL = 8, 30, 30, 300
"""How many tries there may be within that: of a name from an address, of a name, from an address, and of all."""
MOST_KEPT = 20_000
HASHES, HASHES_WAITING, HASH_PATIENCE = 2, 8, 10.0
"""A hash takes 64 MiB and a tenth of a second: how many are worked on, how many wait, and how long (s)."""


class Tries:
    """Counts tries by name, by address and in all.

    Somebody who comes from an address that they have signed in from before is counted for that name and address alone:
    what others try keeps nobody out of their own place.
    """

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._tries: OrderedDict[tuple[str, ...], deque[float]] = OrderedDict()

    def begin(self, name: str, origin: str, *, known: bool) -> None:
        """Notes a try. Raises Refused 429 when there were too many; that one is not counted."""
        now = time.monotonic()
        limits = _limits(name, origin, known)
        with self._lock:
            for key, most in limits:
                recent = [at for at in self._tries.get(key, ()) if now - at < WITHIN]
                if len(recent) >= most:
                    wait = int(WITHIN - (now - recent[-most])) + 1
                    what = "for this name" if key[0] in ("one", "name") else "from here"
                    raise Refused(
                        429, f"Too many tries {what}: try again in {wait} s.", headers={"Retry-After": str(wait)}
                    )
            for key, most in limits:
                self._tries.setdefault(key, deque(maxlen=most)).append(now)
                self._tries.move_to_end(key)
            while len(self._tries) > MOST_KEPT:
                self._tries.popitem(last=False)

    def succeeded(self, name: str, origin: str, *, known: bool) -> None:
        """It was the right password: the try counts no more."""
        with self._lock:
            for key, _ in _limits(name, origin, known):
                tries = self._tries.get(key)
                if tries:
                    tries.pop()
            self._tries.pop(("one", name, origin), None)


def _limits(name: str, origin: str, known: bool) -> list[tuple[tuple[str, ...], int]]:
    own: list[tuple[tuple[str, ...], int]] = [(("one", name, origin), OF_ONE)]
    return own if known else [*own, (("name", name), OF_NAME), (("address", origin), OF_ADDRESS), (("all",), OF_ALL)]


class Passwords:
    """Hashes passwords, a few at once: each takes much memory and time."""

    def __init__(self) -> None:
        self._hasher = PasswordHasher()
        self._turns = threading.BoundedSemaphore(HASHES)
        self._waiting = threading.BoundedSemaphore(HASHES + HASHES_WAITING)
        self._nobody = self._hasher.hash("nobody has this password")

    def hash(self, password: str) -> str:
        """Raises Refused 503 when too many wait."""
        with self._turn():
            return self._hasher.hash(password)

    def fits(self, password: str, hashed: str | None) -> bool:
        """Whether it is the password of a hash; it takes as long where there is none. Raises as `hash`."""
        with self._turn():
            try:
                return self._hasher.verify(hashed or self._nobody, password) and hashed is not None
            except VerificationError:
                return False

    @contextmanager
    def _turn(self) -> Iterator[None]:
        busy = Refused(503, "Too many sign in at this moment: try again.", headers={"Retry-After": "5"})
        if not self._waiting.acquire(blocking=False):
            raise busy
        try:
            if not self._turns.acquire(timeout=HASH_PATIENCE):
                raise busy
            try:
                yield
            finally:
                self._turns.release()
        finally:
            self._waiting.release()
