"""Looking up whose tokens are, beside the loop."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence

from balise.server.people.access import Access, Principal

Found = Principal | Exception | None


class Bearers:
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
                some, self._waiting = self._waiting, {}
                for future, found in zip(some.values(), await self._found([*some]), strict=True):
                    future.set_result(found)
        finally:
            self._working = None

    async def _found(self, tokens: Sequence[str]) -> Sequence[Found]:
        try:
            return await asyncio.to_thread(self._look, tokens)
        except Exception as error:  # noqa: BLE001  there may be no thread; nobody waits for ever
            return [error] * len(tokens)

    def _look(self, tokens: Sequence[str]) -> Sequence[Found]:
        try:
            return self._access.bearers(tokens)
        except Exception as error:  # noqa: BLE001  whoever waits is told
            # What is wrong with one is nothing to the others.
            return [error] if len(tokens) == 1 else [found for token in tokens for found in self._look([token])]
