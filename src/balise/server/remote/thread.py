"""The thread, with an event loop of its own, on which the console reads what is remote."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Awaitable, Callable, Coroutine
from concurrent.futures import Future
from typing import Any, TypeVar

from balise.api.remote import RemoteTarget
from balise.collect.remote.hand import SshHand

T = TypeVar("T")
STOP_SECONDS = 10.0


class RemoteThread:
    """One thread for all: thousands of connections wait on its loop."""

    def __init__(self) -> None:
        self.loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._run, name="remote", daemon=True)

    def _run(self) -> None:
        asyncio.set_event_loop(self.loop)
        self.loop.run_forever()

    @property
    def runs(self) -> bool:
        return self._thread.is_alive()

    def start(self) -> None:
        self._thread.start()

    def submit(self, work: Coroutine[Any, Any, T]) -> Future[T]:
        """Runs a coroutine on this thread."""
        return asyncio.run_coroutine_threadsafe(work, self.loop)

    def hand(self, target: RemoteTarget) -> SshHand:
        """Somebody who runs commands on a host, over a connection of its own on this thread."""
        return SshHand(target, self.loop)

    def stop(self, last: Callable[[], Awaitable[None]]) -> None:
        """Ends after what is still to be done on it."""
        if not self.runs:
            return

        async def end() -> None:
            await last()
            self.loop.stop()

        self.submit(end())
        self._thread.join(STOP_SECONDS)
