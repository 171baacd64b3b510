"""Looking up whose tokens are, beside the loop."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from itertools import islice

from balise.server.people.access import Access, Principal

AT_ONCE = 100
"""Tokens that are looked up together."""
Found = Principal | Exception | None


class Lookups:
    """Tokens that come while others are looked up wait for these, and are looked up together: a fleet that comes for
    the first time has a token each. Used by one loop."""

    def __init__(self, access: Access) -> None:
        self._access = access
        self._waiting: dict[str, asyncio.Future[Found]] = {}
        self._working: asyncio.Task[None] | None = None

    async def bearer(self, token: str) -> Principal | None:
        """Whose a token is. Raises as `Access.bearer` does."""
        held = self._waiting.get(token)
        if held is None:
            held = self._waiting[token] = asyncio.get_running_loop().create_future()
        if self._working is None:
            self._working = asyncio.create_task(self._work())
        # Others may wait for the same.
        found = await asyncio.shield(held)
        if isinstance(found, Exception):
            raise found
        return found

    async def _work(self) -> None:
        try:
            while self._waiting:
                tokens = list(islice(self._waiting, AT_ONCE))
                some = [self._waiting.pop(token) for token in tokens]
                for future, found in zip(some, await asyncio.to_thread(self._look, tokens), strict=True):
                    future.set_result(found)
        finally:
            self._working = None

    def _look(self, tokens: Sequence[str]) -> list[Found]:
        found: list[Found] = []
        for token in tokens:
            try:
                found.append(self._access.bearer(token))
            except Exception as error:  # noqa: BLE001  it is told of this token alone
                found.append(error)
        return found
