"""Questions to agents, which only ever connect out: each is part of the plan that its agent waits for."""

from __future__ import annotations

import itertools
import threading
from concurrent.futures import Future
from concurrent.futures import TimeoutError as Late

from balise.api.sources import PathAnswer, PathAsk, PathTried
from balise.server.errors import Refused
from balise.server.signals import Signal

MOST_OF_HOST = 5


class PathAsks:
    """What agents are asked, and who waits for their answers."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._numbers = itertools.count(1)
        self._asked: dict[int, dict[int, tuple[PathAsk, Future[PathTried]]]] = {}
        self.changed = Signal[int]("an agent is asked")
        """Told the number of a host whose agent is asked something."""

    def of(self, host: int) -> list[PathAsk]:
        """What the agent of a host is asked now."""
        with self._lock:
            return [ask for ask, _ in self._asked.get(host, {}).values()]

    def ask(self, host: int, path: str, seconds: float) -> PathTried | None:
        """What a host's agent finds at a path; None when it does not answer in time.

        Raises:
            Refused: 429 when too much is asked of this host at once.
        """
        future: Future[PathTried] = Future()
        with self._lock:
            asked = self._asked.setdefault(host, {})
            if len(asked) >= MOST_OF_HOST:
                raise Refused(429, "Several paths are being tried on this host already: wait a moment.")
            number = next(self._numbers)
            asked[number] = (PathAsk(id=number, path=path), future)
        self.changed.tell(host)
        try:
            return future.result(seconds)
        except Late:
            return None
        finally:
            with self._lock:
                asked.pop(number, None)
                if not asked:
                    self._asked.pop(host, None)
            self.changed.tell(host)

    def answered(self, host: int, answer: PathAnswer) -> None:
        """An answer; one that nobody waits for any more is let go."""
        with self._lock:
            found = self._asked.get(host, {}).get(answer.id)
        if found is not None and not found[1].done():
            found[1].set_result(answer.tried)
