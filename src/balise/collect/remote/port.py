"""A service read over the network by its port alone."""

from __future__ import annotations

import asyncio
import time

from balise.api.remote import RemoteTarget
from balise.api.services import ServiceTarget
from balise.collect.ports import MEANINGS, look
from balise.collect.remote.link import LinkProblem, Taken


class PortLink:
    """One service. There is nothing to keep: whether it accepts is the question."""

    host_key = ""

    def __init__(self, target: RemoteTarget) -> None:
        if target.service is None:
            raise LinkProblem("failed", "the target names no service")
        self._service: ServiceTarget = target.service

    async def read(self, now: float) -> Taken:
        began = time.monotonic()
        readings, problem = await asyncio.to_thread(look, self._service)
        return Taken(readings, MEANINGS, time.monotonic() - began, problem=problem)

    def adopt(self, target: RemoteTarget) -> None:
        if target.service is not None:
            self._service = target.service

    def settle(self, taken: Taken) -> None:
        """There is nothing to remember."""

    async def close(self) -> None:
        """There is nothing to close."""
