"""All requests but deliveries: they are passed on to the console, and its answers to whoever asked."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Sequence

from starlette.types import Scope, Send

from balise.front.console import Answer, Broken, Console, Gone
from balise.front.frames import MOST_REQUEST
from balise.front.hand import InHand, NoRoom
from balise.front.problems import too_large, try_again
from balise.listen.door import Door
from balise.listen.reading import Left, Receive, TooMuch, parts_of


class Passing:
    """A plain ASGI callable."""

    def __init__(self, console: Console, door: Door, hand: InHand) -> None:
        self._console = console
        self._door = door
        self._hand = hand

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        try:
            with contextlib.ExitStack() as held:
                answer = self._console.ask(scope, await self._body(scope, receive, held))
        except Left:
            return
        except TooMuch:
            await too_large()(scope, receive, send)
            return
        except (NoRoom, Gone):
            await try_again()(scope, receive, send)
            return
        leaving = asyncio.ensure_future(_until_left(receive, answer))
        # Whoever is in the midst of an answer that breaks off is left without the rest of it.
        try:
            with contextlib.suppress(Left, Broken):
                await self._answer(scope, receive, answer, send)
        finally:
            leaving.cancel()
            answer.close()

    async def _body(self, scope: Scope, receive: Receive, held: contextlib.ExitStack) -> bytes:
        """The body; what is read of it is held meanwhile. Raises TooMuch, and reads no more than shows that."""
        if _said_size(scope["headers"]) > MOST_REQUEST:
            raise TooMuch
        parts: list[bytes] = []
        size = 0
        async for part in parts_of(receive):
            held.enter_context(self._hand.holding(len(part)))
            parts.append(part)
            size += len(part)
            if size > MOST_REQUEST:
                raise TooMuch
        return b"".join(parts)

    async def _answer(self, scope: Scope, receive: Receive, answer: Answer, send: Send) -> None:
        try:
            status, headers, who, delivers = await answer.head()
        except Gone:
            await try_again()(scope, receive, send)
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
    answer.put(Left())


def _said_size(headers: Sequence[tuple[bytes, bytes]]) -> int:
    said = next((value for name, value in headers if name == b"content-length"), b"0")
    return int(said) if said.isdigit() else 0
