"""Hosts that come for the first time: those that come together are written together."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable, Sequence

from balise.server.people.access import Principal
from balise.server.receive.scopes import Admission
from balise.store.writer import Busy

MOST_WAITING, MOST_EACH = 10_000, 2_000
"""Hosts that wait to be written, and how many of them may be one sender's."""
AT_ONCE = 500
"""Hosts of one transaction."""
Asked = tuple[Principal, str]


class Arrivals:
    """Used by one event loop. While some are written, others gather."""

    def __init__(self, admission: Admission) -> None:
        self._admission = admission
        self._waiting: dict[tuple[int | None, str], tuple[Asked, asyncio.Future[None]]] = {}
        self._writing: asyncio.Task[None] | None = None

    async def welcome(self, principal: Principal, names: Iterable[str]) -> None:
        """Returns when each of these hosts is there, or may not be.

        Raises:
            Busy: too many wait to be written.
        """
        new = [name for name in dict.fromkeys(names) if self._admission.is_new(principal, name)]
        for at in range(0, len(new), AT_ONCE):
            await self._join(principal, new[at : at + AT_ONCE])

    async def _join(self, principal: Principal, new: Sequence[str]) -> None:
        mine = sum(token == principal.token for token, _ in self._waiting)
        if len(self._waiting) + len(new) > MOST_WAITING or mine + len(new) > MOST_EACH:
            raise Busy
        loop = asyncio.get_running_loop()
        done = []
        for name in new:
            key = (principal.token, name)
            if key not in self._waiting:
                self._waiting[key] = ((principal, name), loop.create_future())
            done.append(self._waiting[key][1])
        if self._writing is None or self._writing.done():
            self._writing = loop.create_task(self._write())
        await asyncio.gather(*(asyncio.shield(one) for one in done))

    async def _write(self) -> None:
        while self._waiting:
            keys = list(self._waiting)[:AT_ONCE]
            taken = [self._waiting.pop(key) for key in keys]
            try:
                await asyncio.to_thread(self._admission.make, [asked for asked, _ in taken])
            except Exception as error:  # noqa: BLE001  whoever waits is told
                for _, done in taken:
                    if not done.cancelled():
                        done.set_exception(error)
                        # Whoever asked may be gone by now.
                        done.exception()
                continue
            for _, done in taken:
                if not done.done():
                    done.set_result(None)
