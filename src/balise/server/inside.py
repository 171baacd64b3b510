"""The console's end of the line to its front: what is asked there is answered here."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Callable, Coroutine
from typing import Any

from starlette.types import ASGIApp, Message

from balise.front.frames import PATHS, Ends, Figures, Kind, Line, Sent, Taken, count_of, packed_head, unpacked_request
from balise.server.receive.taking import Taking, refusal

AHEAD, PIECE = 256 << 10, 64 << 10
"""Bytes of an answer that are sent ahead of whoever takes it, and at once."""
TAKEN = Taken(200, b"")
"""All of a delivery is taken."""
log = logging.getLogger(__name__)


class Asked:
    """One request on its way through an ASGI application."""

    def __init__(self, line: Inside, number: int, content: bytes) -> None:
        self._line = line
        self._number = number
        self.scope, self._body = unpacked_request(content)
        self._is_read = self._begun = self._ended = False
        self._left = asyncio.Event()
        self._ahead = 0
        self._room = asyncio.Event()

    async def run(self, application: ASGIApp) -> None:
        try:
            await application(self.scope, self._receive, self._send)
        except asyncio.CancelledError:
            self._break_off(503)
            raise
        except Exception:
            log.exception("path=%s", self.scope["path"])
        finally:
            self._break_off(500)
            self._line.forget(self._number)

    def has_left(self) -> None:
        """Whoever asked takes nothing more."""
        self._left.set()
        self._room.set()

    def took(self, size: int) -> None:
        self._ahead -= size
        self._room.set()

    async def _receive(self) -> Message:
        if not self._is_read:
            self._is_read = True
            return {"type": "http.request", "body": self._body, "more_body": False}
        if not self._left.is_set():
            await self._left.wait()
        return {"type": "http.disconnect"}

    async def _send(self, message: Message) -> None:
        if self._left.is_set():
            return
        if message["type"] == "http.response.start":
            self._begin(message["status"], message.get("headers", []))
            return
        content, more = message.get("body", b""), message.get("more_body", False)
        for at in range(0, len(content), PIECE):
            piece = content[at : at + PIECE]
            await self._say(piece, more=more or at + PIECE < len(content))
        if not content and not more:
            await self._say(b"", more=False)

    def _begin(self, status: int, headers: list[tuple[bytes, bytes]]) -> None:
        self._begun = True
        who = self.scope["state"].get("who")
        named = f"{who.role} {who.name}" if who is not None else ""
        head = packed_head(status, headers, named, who is not None and who.may_deliver)
        self._line.say(Kind.BEGUN, self._number, head)

    async def _say(self, content: bytes, *, more: bool) -> None:
        while self._ahead >= AHEAD and not self._left.is_set():
            self._room.clear()
            await self._room.wait()
        self._ahead += len(content)
        self._ended = not more
        self._line.say(Kind.PART, self._number, bytes([Ends.GOES_ON if more else Ends.LAST]) + content)

    def _break_off(self, status: int) -> None:
        """Nothing more comes, where not all has; with this status if nothing has come yet."""
        if self._ended:
            return
        self._ended = True
        ends = Ends.CUT if self._begun else Ends.LAST
        if not self._begun:
            self._begin(status, [(b"content-length", b"0")])
        self._line.say(Kind.PART, self._number, bytes([ends]))


class Inside(Line):
    """Answers what one front asks; `told` hears its figures."""

    def __init__(self, application: ASGIApp, taking: Taking, told: Callable[[Figures], None]) -> None:
        super().__init__()
        self._application = application
        self._taking = taking
        self._asked: dict[int, Asked] = {}
        self._tasks: set[asyncio.Future[None]] = set()
        self.hears |= {
            Kind.WHO: lambda number, content: self._do(self._who(number, content)),
            Kind.TAKE: self._take,
            Kind.ASK: self._ask,
            Kind.MORE: self._more,
            Kind.LEFT: self._leave,
            Kind.FIGURES: lambda _, content: told(Figures.unpacked(content)),
        }

    def connection_lost(self, exc: Exception | None) -> None:
        for asked in self._asked.values():
            asked.has_left()

    def forget(self, number: int) -> None:
        self._asked.pop(number, None)

    async def end(self, within: float) -> None:
        """Waits for what is in hand, for so many seconds; what takes longer is left."""
        if self._tasks:
            await asyncio.wait(self._tasks, timeout=within)
        for task in self._tasks:
            task.cancel()

    def _do(self, work: Coroutine[Any, Any, None]) -> None:
        task = asyncio.get_running_loop().create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _who(self, number: int, content: bytes) -> None:
        caller = await self._taking.caller(PATHS[content[0]], content[1:].decode("latin-1"))
        self.say(Kind.KNOWN, number, caller.packed())

    def _take(self, number: int, content: bytes) -> None:
        sent = Sent.unpacked(content)
        # A task for each delivery would take as long as what most of them need.
        durable = self._taking.begin(sent)
        if durable is None:
            self._do(self._take_whole(number, sent))
        else:
            self._tasks.add(durable)
            durable.add_done_callback(lambda done: self._took(number, sent, done))

    def _took(self, number: int, sent: Sent, durable: asyncio.Future[None]) -> None:
        self._tasks.discard(durable)
        error = asyncio.CancelledError() if durable.cancelled() else durable.exception()
        taken = TAKEN if error is None else refusal(sent, error)
        self.say(Kind.TAKEN, number, taken.packed())

    async def _take_whole(self, number: int, sent: Sent) -> None:
        try:
            taken = await self._taking.take(sent)
        except asyncio.CancelledError as error:
            self.say(Kind.TAKEN, number, refusal(sent, error).packed())
            raise
        self.say(Kind.TAKEN, number, taken.packed())

    def _ask(self, number: int, content: bytes) -> None:
        asked = self._asked[number] = Asked(self, number, content)
        self._do(asked.run(self._application))

    def _more(self, number: int, content: bytes) -> None:
        if (asked := self._asked.get(number)) is not None:
            asked.took(count_of(content))

    def _leave(self, number: int, _content: bytes) -> None:
        if (asked := self._asked.get(number)) is not None:
            asked.has_left()
