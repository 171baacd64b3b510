"""Trying paths on hosts, by whoever collects from them."""

from __future__ import annotations

import asyncio
from typing import Protocol

from balise.api.remote import RemoteTarget
from balise.api.sources import PathTried
from balise.server.errors import Refused, unknown
from balise.server.hosts.directory import Directory, Known
from balise.server.people.access import audit
from balise.server.plans.asks import PathAsks
from balise.server.remote.book import RemoteBook
from balise.server.remote.owners import CONSOLE
from balise.server.remote.thread import RemoteThread
from balise.store.state.store import StateStore

LIMIT = 10.0
"""Seconds within which there is an answer, whatever it is."""


class TriesNear(Protocol):
    """Has a relay try a path near the host."""

    def try_path(self, relay: int, target: RemoteTarget, path: str, seconds: float) -> PathTried | None: ...


class PathTrials:
    """Answers what is at a path on a host right now."""

    def __init__(
        self,
        *,
        state: StateStore,
        directory: Directory,
        asks: PathAsks,
        remote: RemoteBook,
        thread: RemoteThread,
        relays: TriesNear,
    ) -> None:
        self._state = state
        self._directory = directory
        self._asks = asks
        self._remote = remote
        self._thread = thread
        self._relays = relays

    def attempt(self, name: str, path: str, who: str) -> PathTried:
        """The last lines at a path, or why there are none.

        Raises:
            Refused: 404 when there is no such host, 409 when nobody collects from it who could look.
        """
        known = self._directory.find(name)
        if known is None:
            raise unknown("host", name)
        self._state.write(lambda s: audit(s, who, "path.try", name, path=path))
        if known.mode == "resident":
            found = self._asks.ask(known.id, path, LIMIT)
            return found or _no_answer("its agent", known)
        target = self._remote.by_ssh(known)
        if target is None:
            detail = f"{name!r} is {_how(known)}: files are read by an agent, or over SSH."
            raise Refused(409, f"Nobody can look at files there: {detail}")
        owner = self._remote.owner_of(known)
        if owner != CONSOLE:
            return self._relays.try_path(owner, target, path, LIMIT) or _no_answer("the relay of its site", known)
        hand = self._thread.hand(target)
        try:
            from balise.collect.remote.trying import try_path

            return self._thread.submit(try_path(hand.link, path)).result(LIMIT)
        except (TimeoutError, asyncio.CancelledError):
            return _no_answer("the console over SSH", known)
        finally:
            hand.close()


def _no_answer(by: str, known: Known) -> PathTried:
    return PathTried(state="stopped", message=f"{by} did not answer within {LIMIT:g} s: is {known.name} running?")


def _how(known: Known) -> str:
    return {"received": "known from other senders", "probed": "known from probes alone"}.get(
        known.mode, "read otherwise"
    )
