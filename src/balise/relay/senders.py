"""Whom tokens stand for: asked of the console once, remembered, and asked again now and then."""

from __future__ import annotations

import contextlib
import hashlib
import json
import logging
import time
from collections import OrderedDict
from pathlib import Path

import httpx

from balise.api.relays import MOST_SENDERS, Sender, SendersAnswer, SendersQuestion
from balise.durable import write_durably

log = logging.getLogger(__name__)
REFRESH_EVERY = 60.0
REMEMBER_UNKNOWN = 10.0


class Away(Exception):
    """The console cannot be asked at the moment."""


class Senders:
    """What is known of tokens, by digest, on disk too: the relay goes on while the console is away."""

    def __init__(self, folder: Path, http: httpx.AsyncClient) -> None:
        self._path = folder / "senders.json"
        self._http = http
        self._known: OrderedDict[str, Sender] = OrderedDict()
        self._unknown: OrderedDict[str, float] = OrderedDict()
        with contextlib.suppress(OSError, ValueError):
            held = json.loads(self._path.read_text("utf-8"))
            self._known.update((d, Sender.model_validate(s)) for d, s in held.items())

    def __len__(self) -> int:
        return len(self._known)

    async def of(self, token: str) -> Sender | None:
        """Whom a token stands for; None when the console does not know it.

        Raises:
            Away: it was never shown before, and the console cannot be asked.
        """
        digest = hashlib.sha256(token.encode()).hexdigest()
        known = self._known.get(digest)
        if known is not None:
            return known
        if time.monotonic() - self._unknown.get(digest, -1e9) < REMEMBER_UNKNOWN:
            return None
        await self._ask([digest])
        return self._known.get(digest)

    async def refresh(self) -> None:
        """Asks for all anew, so that a revoked token soon ends here too."""
        if self._known:
            await self._ask(list(self._known))

    async def _ask(self, digests: list[str]) -> None:
        content = SendersQuestion(digests=digests[:MOST_SENDERS]).model_dump_json()
        try:
            answer = await self._http.post(
                "/api/v1/relays/senders", content=content, headers={"Content-Type": "application/json"}
            )
        except httpx.HTTPError as error:
            raise Away(str(error)) from None
        if answer.status_code != 200:
            raise Away(f"the console answered {answer.status_code}")
        changed = False
        for digest, sender in SendersAnswer.model_validate_json(answer.content).senders.items():
            changed |= self._known.get(digest) != sender
            if sender is None:
                self._known.pop(digest, None)
                self._unknown[digest] = time.monotonic()
            else:
                self._known[digest] = sender
        while len(self._known) > MOST_SENDERS:
            self._known.popitem(last=False)
        while len(self._unknown) > MOST_SENDERS:
            self._unknown.popitem(last=False)
        if changed:
            held = {digest: sender.model_dump() for digest, sender in self._known.items()}
            write_durably(self._path, json.dumps(held).encode())
