"""Telling whoever listens: state changes, alerts, and events as they arrive."""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import AsyncIterator, Awaitable, Callable
from dataclasses import dataclass
from typing import Any

from fastapi.sse import format_sse_event

HEARTBEAT = 10.0
RETRY_MS = 2000
MOST_WAITING = 500
MOST_LISTENERS, MOST_OF_ONE = 500, 40
"""Open streams in all, and of one person."""


@dataclass(eq=False)
class _Listener:
    queue: asyncio.Queue[tuple[str, Any] | None]
    wants: Callable[[str, Any], bool]
    who: str
    lost: int = 0


class TooManyListeners(Exception):
    """There is no room for another stream."""


class Hub:
    """Hands messages to open streams. A stream that does not keep up loses messages and is told how many."""

    def __init__(self) -> None:
        self._loop: asyncio.AbstractEventLoop | None = None
        self._listeners: set[_Listener] = set()

    def start(self, loop: asyncio.AbstractEventLoop) -> None:
        self._loop = loop

    @property
    def listeners(self) -> int:
        return len(self._listeners)

    def tell(self, topic: str, content: Any) -> None:
        """Hands a message on, from any thread."""
        if self._listeners and self._loop and not self._loop.is_closed():
            self._loop.call_soon_threadsafe(self._spread, topic, content)

    def _spread(self, topic: str, content: Any) -> None:
        for listener in list(self._listeners):
            if listener.wants(topic, content):
                if listener.queue.full():
                    listener.lost += 1
                else:
                    listener.queue.put_nowait((topic, content))

    def has_room(self, who: str) -> bool:
        """Whether somebody may open one more stream."""
        own = sum(listener.who == who for listener in self._listeners)
        return len(self._listeners) < MOST_LISTENERS and own < MOST_OF_ONE

    def recheck(self) -> None:
        """Somebody may no longer come in: every stream is looked at anew, at once."""
        if self._loop and not self._loop.is_closed():
            self._loop.call_soon_threadsafe(self._wake_all)

    def _wake_all(self) -> None:
        for listener in self._listeners:
            if not listener.queue.full():
                listener.queue.put_nowait(("heartbeat", {}))

    async def stream(
        self, wants: Callable[[str, Any], bool], *, who: str, may_go_on: Callable[[], Awaitable[bool]]
    ) -> AsyncIterator[bytes]:
        """Server-sent events, with a heartbeat that a page can see; ends when its reader may not go on."""
        if not self.has_room(who):
            raise TooManyListeners
        listener = _Listener(asyncio.Queue(MOST_WAITING), wants, who)
        self._listeners.add(listener)
        try:
            yield format_sse_event(event="hello", data_str="{}", retry=RETRY_MS)
            asked = time.monotonic()
            while True:
                try:
                    item = await asyncio.wait_for(listener.queue.get(), HEARTBEAT)
                except TimeoutError:
                    item = ("heartbeat", {})
                if item is None:
                    return
                if item[0] == "heartbeat" or time.monotonic() - asked > HEARTBEAT:
                    asked = time.monotonic()
                    if not await may_go_on():
                        return
                if listener.lost:
                    lost, listener.lost = listener.lost, 0
                    yield message("lost", {"count": lost})
                yield message(*item)
        finally:
            self._listeners.discard(listener)

    def stop(self) -> None:
        """Ends all streams."""
        for listener in self._listeners:
            while listener.queue.full():
                listener.queue.get_nowait()
            listener.queue.put_nowait(None)


def message(topic: str, content: Any) -> bytes:
    """One server-sent event."""
    return format_sse_event(event=topic, data_str=json.dumps(content, separators=(",", ":")))
