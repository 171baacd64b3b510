"""Telling the console what is on this host: at the start, every hour, and when it asks."""

from __future__ import annotations

import hashlib
import json
import logging
import time
from collections.abc import Callable

from balise.api.inventory import EVENT, InventoryKind
from balise.collect.inventory import Inventory
from balise.collect.readings import Kept

log = logging.getLogger(__name__)
EVERY = 3600.0
WHOLE_EVERY = 12 * 3600.0
"""Seconds after which a kind is told again although nothing of it changed."""
FIRST_AFTER = 3.0


class InventoryWork:
    """Reads the inventory when it is due; `look` is called every half second or so.

    Args:
        deliver: keeps durably what is to be told. Raises OSError when it cannot.
        asked: a number that is another whenever the console wants it told at once.
        every: seconds between collections; None when it is switched off.
    """

    def __init__(
        self, deliver: Callable[[list[Kept]], None], asked: Callable[[], int], every: Callable[[], float | None]
    ) -> None:
        self._deliver = deliver
        self._asked = asked
        self._every = every
        self._inventory = Inventory()
        self._told: dict[InventoryKind, tuple[float, str]] = {}
        self._stopped = False
        self._seen: int | None = None
        self._due = 0.0
        self.problems: dict[str, str] = {}
        self.cost = 0.0

    def stop(self) -> None:
        """Ends a collection after the kind it is at."""
        self._stopped = True

    def look(self) -> None:
        """Collects if it is time, or if the console asks for it."""
        asked, every = self._asked(), self._every()
        if self._seen is None:
            self._seen, self._due = asked, time.monotonic() + FIRST_AFTER
        if asked != self._seen or (every is not None and time.monotonic() >= self._due):
            everything, self._seen = asked != self._seen, asked
            self._due = time.monotonic() + (every or EVERY)
            self.collect(time.time(), everything=everything)

    def collect(self, now: float, *, everything: bool = False) -> None:
        """Reads every kind, and tells those that changed; each on its own, so that little is held at once."""
        began = time.thread_time()
        inventory = self._inventory
        for kind in inventory.kinds:
            if self._stopped:
                return
            try:
                items, problem = inventory.read(kind), ""
            except OSError as error:
                items, problem = [], f"{error.strerror}: {error.filename or kind}"
            except Exception as error:
                log.exception("inventory kind=%s", kind)
                items, problem = [], f"{type(error).__name__}: {str(error)[:200]}"
            content = {"kind": kind, "items": items, "problem": problem}
            digest = hashlib.sha256(json.dumps(content, sort_keys=True, default=str).encode()).hexdigest()
            at, before = self._told.get(kind, (0.0, ""))
            if digest == before and not everything and 0 <= now - at < WHOLE_EVERY:
                continue
            try:
                self._deliver([Kept(now, EVENT, content)])
                self._told[kind] = (now, digest)
                self.problems.pop(kind, None)
            except OSError as error:
                self.problems[kind] = f"cannot keep what was collected: {error.strerror}"
            if problem:
                self.problems[kind] = problem
        self.cost = time.thread_time() - began
