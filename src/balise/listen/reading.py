"""Reading the body of a request, never more of it than is allowed."""

from __future__ import annotations

from collections.abc import AsyncIterator, Awaitable, Callable, MutableMapping
from typing import Any

Receive = Callable[[], Awaitable[MutableMapping[str, Any]]]


class Left(Exception):
    """Whoever sends has left before the body was whole."""


class TooMuch(Exception):
    """A body is larger than is allowed."""


async def parts_of(receive: Receive) -> AsyncIterator[bytes]:
    """A body bit by bit, as it comes.

    Raises:
        Left: it is not whole, and will not be.
    """
    while True:
        message = await receive()
        if message["type"] == "http.disconnect":
            raise Left
        yield message.get("body", b"")
        if not message.get("more_body"):
            return


async def read_body(receive: Receive, most: int) -> bytes:
    """A body of at most so many bytes.

    Raises:
        Left: it is not whole, and will not be.
        TooMuch: it is larger.
    """
    parts: list[bytes] = []
    size = 0
    async for part in parts_of(receive):
        parts.append(part)
        size += len(part)
        if size > most:
            raise TooMuch
    return parts[0] if len(parts) == 1 else b"".join(parts)
