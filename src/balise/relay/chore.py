"""Background work on an event loop, run as `Worker` runs it on a thread."""

from __future__ import annotations

import asyncio
import logging
import time
from collections.abc import Awaitable, Callable

from balise.collect.work import Failures

log = logging.getLogger(__name__)


class Chore:
    """Awaits `step` again and again on the running loop, with the pause that it answers, until cancelled."""

    def __init__(self, name: str, step: Callable[[], Awaitable[float]]) -> None:
        self._step = step
        self.failures = Failures(name)

    async def run(self) -> None:
        while True:
            try:
                wanted = await self._step()
                self.failures.passed()
            except Exception as error:
                self.failures.note(error, time.time())
                log.exception("chore=%s failures=%d", self.failures.name, self.failures.count)
                wanted = 0.0
            await asyncio.sleep(self.failures.pause(wanted))
