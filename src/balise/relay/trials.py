"""Trials near the hosts: whether the console may read one, tried from where the relay stands."""

from __future__ import annotations

import asyncio
import contextlib
import time

import httpx

from balise.api.relays import TrialAnswer, TrialRequest
from balise.collect.remote.ssh import SshLink
from balise.collect.remote.trial import attempt
from balise.collect.remote.trying import try_path


class Trials:
    """Tries what the console asks for, `side_by_side` at once, and answers it."""

    def __init__(self, http: httpx.AsyncClient, *, side_by_side: int, hands: asyncio.Semaphore) -> None:
        self._http = http
        self._gate = asyncio.Semaphore(side_by_side)
        self._hands = hands
        self._trying: dict[int, asyncio.Task[None]] = {}

    def begin(self, trials: list[TrialRequest]) -> None:
        """Begins what is not tried already."""
        for one in trials:
            if one.id not in self._trying:
                self._trying[one.id] = asyncio.create_task(self._try(one))

    async def _try(self, one: TrialRequest) -> None:
        async with self._gate:
            answer = await self._answer(one)
        with contextlib.suppress(httpx.HTTPError):
            await self._http.put(
                f"/api/v1/relays/trials/{one.id}",
                content=answer.model_dump_json(),
                headers={"Content-Type": "application/json"},
            )
        self._trying.pop(one.id, None)

    async def _answer(self, one: TrialRequest) -> TrialAnswer:
        if one.path is not None:
            link = SshLink(one.target, self._hands)
            try:
                return TrialAnswer(result="added", message="", tried=await try_path(link, one.path))
            finally:
                await link.close()
        found = await attempt(one.target, time.time(), self._hands)
        return TrialAnswer(
            result=found.result, message=found.message[:1000], facts=found.facts, host_key=found.host_key
        )
