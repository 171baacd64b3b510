"""What goes into the buffer: everything, or what a plan leaves of it."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping

from balise.api.relays import Frame, pack
from balise.relay.buffer import Buffer
from balise.relay.summing import Summing
from balise.relay.thinning import Thinner


class Outlet:
    """Adds up and thins out metrics of hosts whose plans say so, before they are written."""

    def __init__(self, buffer: Buffer, summing: Summing) -> None:
        self._buffer = buffer
        self._summing = summing
        self._thinner = Thinner()
        self._every: Mapping[int, float] = {}

    @property
    def left_out(self) -> int:
        """Points that were left out since the start."""
        return self._thinner.left_out

    def set_plans(self, every: Mapping[int, float]) -> None:
        """By host: in how many seconds one point of each of its series is sent on."""
        self._every = every

    async def put(self, frame: Frame, body: bytes, host: int | None) -> None:
        """Returns when what is sent on of it is durable. `host` is whose plan says how much that is.

        Raises:
            OSError: it cannot be written.
        """
        left: bytes | None = body
        if frame.kind == "metrics" and not frame.json_body and host is not None:
            left = await self._summing.add(frame, body, host)
            every = self._every.get(host)
            if every is not None and left is not None:
                await self._put_thinned(frame, left, every)
                return
        if left is not None:
            await self._buffer.put(pack(frame, left))

    async def _put_thinned(self, frame: Frame, body: bytes, every: float) -> None:
        thinned = await asyncio.to_thread(self._thinner.of, frame.sender, body, every, frame.at)
        if thinned.content is not None:
            await self._buffer.put(pack(frame, thinned.content))
        self._thinner.note(frame.sender, thinned)


def host_of(sender: str) -> int | None:
    """The host that a sender like `host:12` is the agent of."""
    kind, _, what = sender.partition(":")
    return int(what) if kind == "host" and what.isdecimal() else None
