"""A service read over the network as its kit says."""

from __future__ import annotations

import asyncio
from concurrent.futures import ThreadPoolExecutor

from balise.api.remote import RemoteTarget
from balise.collect.kits.reader import ServiceReader, turn_of
from balise.collect.remote.link import LinkProblem, Taken

_READERS = ThreadPoolExecutor(48, thread_name_prefix="kit")
"""Services are read on threads of their own: most of the time one waits for the other side."""


class KitLink:
    """One service, and the connections to it that its reader keeps."""

    host_key = ""

    def __init__(self, target: RemoteTarget) -> None:
        if target.service is None:
            raise LinkProblem("failed", "the target names no service")
        self._reader = ServiceReader(target.service)

    async def read(self, now: float) -> Taken:
        loop = asyncio.get_running_loop()
        read = await loop.run_in_executor(_READERS, self._reader.read, now)
        return Taken(
            read.readings,
            read.meanings,
            read.seconds,
            kept=read.kept,
            problem=read.problem,
            turn=turn_of(read),
        )

    def adopt(self, target: RemoteTarget) -> None:
        """A service's connections are never another's."""

    def settle(self, taken: Taken) -> None:
        """There is nothing to remember."""

    async def close(self) -> None:
        await asyncio.get_running_loop().run_in_executor(_READERS, self._reader.close)
