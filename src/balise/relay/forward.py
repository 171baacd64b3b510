"""Forwarding what waits: in order, in bundles, until the console says that it has them."""

from __future__ import annotations

import asyncio
import gzip
import logging
import time

import httpx

from balise.api.relays import BundleAnswer
from balise.api.sent import SENT_HEADER
from balise.relay.buffer import Buffer

log = logging.getLogger(__name__)
MOST_BYTES = 2 << 20
MOST_FRAMES = 500
FIRST_WAIT, LONGEST_WAIT = 1.0, 30.0


class Forwarder:
    """Takes bundles from the buffer. `problem` is what stands in the way, in words."""

    def __init__(self, buffer: Buffer, http: httpx.AsyncClient) -> None:
        self._buffer = buffer
        self._http = http
        self.problem: str | None = None
        self.forwarded = 0
        self.refused = 0
        self._failures = 0

    async def turn(self) -> float:
        """Waits for something to forward, and forwards a bundle of it."""
        await self._buffer.filled.wait()
        return await self.step()

    async def step(self) -> float:
        """Forwards one bundle; answers how many seconds to wait before the next."""
        frames, places = await asyncio.to_thread(self._buffer.take, MOST_BYTES, MOST_FRAMES)
        if not frames:
            return 0.2
        answer = await self._post(frames)
        if answer is None:
            self._failures += 1
            return min(LONGEST_WAIT, FIRST_WAIT * 2.0 ** min(self._failures - 1, 10))
        done = 0
        for status in answer.frames[: len(frames)]:
            if status.status == 503:
                break
            done += 1
            if status.status == 200:
                self.forwarded += 1
            else:
                self.refused += 1
                log.warning("status=%d refused by the console: %s", status.status, status.why)
        if done:
            self._buffer.done(places[done - 1])
            self._failures = 0
        return 0.0 if done == len(frames) else 1.0

    async def _post(self, frames: list[bytes]) -> BundleAnswer | None:
        try:
            content = await asyncio.to_thread(gzip.compress, b"".join(frames), 5)
            answer = await self._http.post(
                "/v1/relayed",
                content=content,
                headers={
                    "Content-Type": "application/octet-stream",
                    "Content-Encoding": "gzip",
                    SENT_HEADER: f"{time.time():.3f}",
                },
                timeout=60.0,
            )
            if answer.status_code == 200:
                self._note(None)
                return BundleAnswer.model_validate_json(answer.content)
            if answer.status_code in (401, 403):
                self._note(f"the console does not accept this relay ({answer.status_code}): enrol it again")
            else:
                self._note(f"the console answered {answer.status_code}")
        except (httpx.HTTPError, ValueError) as error:
            self._note(f"the console cannot be reached: {error or type(error).__name__}")
        return None

    def _note(self, problem: str | None) -> None:
        if problem and not self.problem:
            log.warning("%s; %d wait", problem, len(self._buffer))
        if self.problem and not problem:
            log.info("the console answers again; %d wait", len(self._buffer))
        self.problem = problem
