"""All requests but deliveries: they are passed on to the console, and its answers to whoever asked."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Awaitable, Callable, Sequence
from typing import Any

from balise.front.console import Answer, Broken, Console, Gone
from balise.front.hand import InHand, NoRoom
from balise.listen.door import Door
from balise.listen.reading import Left, Receive, parts_of

Send = Callable[[dict[str, Any]], Awaitable[None]]
_TRY_AGAIN = (
    b'{"type": "about:blank", "title": "Not available", "status": 503, '
    b'"detail": "The console is busy, ending or beginning anew: try again in a moment.", "errors": []}'
)
_HEADERS = [(b"content-type", b"application/problem+json"), (b"retry-after", b"2"), (b"cache-control", b"no-store")]


class Passing:
    """A plain ASGI callable. No more of a body than `most` bytes is read: the console refuses the rest of it."""

    def __init__(self, console: Console, door: Door, hand: InHand, most: int) -> None:
        self._console = console
        self._door = door
        self._hand = hand
        self._most = most

    async def __call__(self, scope: dict[str, Any], receive: Receive, send: Send) -> None:
        try:
            with contextlib.ExitStack() as held:
                answer = self._console.ask(scope, await self._body(scope, receive, held))
        except Left:
            return
        except (NoRoom, Gone):
            await _try_again(send)
            return
        leaving = asyncio.ensure_future(_until_left(receive, answer))
        # Whoever is in the midst of an answer that breaks off is left without the rest of it.
        try:
            with contextlib.suppress(Left, Broken):
                await self._answer(scope, answer, send)
        finally:
            leaving.cancel()
            answer.close()

    async def _body(self, scope: dict[str, Any], receive: Receive, held: contextlib.ExitStack) -> bytes:
        """The body, or as much of it as shows that it is too large; what is read of it is held meanwhile."""
        if _said_size(scope["headers"]) > self._most:
            return b""
        parts: list[bytes] = []
        size = 0
        async for part in parts_of(receive):
            held.enter_context(self._hand.holding(len(part)))
            parts.append(part)
            size += len(part)
            if size > self._most:
                break
        return b"".join(parts)

    async def _answer(self, scope: dict[str, Any], answer: Answer, send: Send) -> None:
        try:
            status, headers, who, delivers = await answer.head()
        except Gone:
            await _try_again(send)
            return
        if who:
            self._door.showed(scope.get("client"), who, delivers=delivers)
        await send({"type": "http.response.start", "status": status, "headers": headers})
        more = True
        while more:
            try:
                content, more = await answer.part()
            except Gone:
                raise Broken from None
            await send({"type": "http.response.body", "body": content, "more_body": more})
            if more:
                answer.took(len(content))


async def _until_left(receive: Receive, answer: Answer) -> None:
    """Breaks an answer off when whoever asked has left."""
    while (await receive())["type"] != "http.disconnect":
        pass
    answer.break_off(Left())


def _said_size(headers: Sequence[tuple[bytes, bytes]]) -> int:
    said = next((value for name, value in headers if name == b"content-length"), b"0")
    return int(said) if said.isdigit() else 0


async def _try_again(send: Send) -> None:
    headers = [*_HEADERS, (b"content-length", b"%d" % len(_TRY_AGAIN))]
    await send({"type": "http.response.start", "status": 503, "headers": headers})
    await send({"type": "http.response.body", "body": _TRY_AGAIN})
