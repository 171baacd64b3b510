"""One HTTP connection with its deadlines, and a server of such connections."""

from __future__ import annotations

import asyncio
from pathlib import Path
from typing import Any

import uvicorn
import uvloop
from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol, RequestResponseCycle

from balise.listen.door import Door

HEAD_SECONDS, BODY_SECONDS = 10.0, 120.0
"""How long the head of a request, and its body, may take to come."""
STALLED_SECONDS = 60.0
"""After which whoever takes nothing of an answer is left."""
MOST_HEAD = 64 << 10
HANDSHAKE_SECONDS = 10.0


class GuardedConnection(HttpToolsProtocol):
    """A connection that is ended when a request does not come, or its answer is not taken, in time."""

    door: Door
    head_seconds, body_seconds, stalled_seconds = HEAD_SECONDS, BODY_SECONDS, STALLED_SECONDS

    def __init__(self, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self._late: asyncio.TimerHandle | None = None
        self._stalled: asyncio.TimerHandle | None = None
        self._in_head = True
        self._head_size = 0
        self._running: RequestResponseCycle | None = None
        """The request that is worked on; others may wait behind it."""

    def connection_made(self, transport: Any) -> None:
        super().connection_made(transport)
        self._wait(self.head_seconds)
        self.door.came(self)

    def connection_lost(self, exc: Exception | None) -> None:
        self._come()
        self._go_on()
        self.door.went(self)
        self._leave()
        super().connection_lost(exc)

    def turn_out(self) -> None:
        """Ends it at once."""
        self._leave()
        self.transport.abort()

    def data_received(self, data: bytes) -> None:
        super().data_received(data)
        if self._in_head:
            self._head_size += len(data)
            if self._head_size > MOST_HEAD:
                self._answer_and_close(431, "Request Header Fields Too Large")

    def on_message_begin(self) -> None:
        super().on_message_begin()
        self._in_head, self._head_size = True, 0
        if self._late is None:
            self._wait(self.head_seconds)

    def on_header(self, name: bytes, value: bytes) -> None:
        if not self._in_head:
            raise ValueError("nothing is expected after a body")
        super().on_header(name, value)

    def on_headers_complete(self) -> None:
        self._in_head = False
        self._wait(self.body_seconds)
        super().on_headers_complete()

    def _start_asgi_task(self, cycle: RequestResponseCycle, app: Any) -> None:
        self._running = cycle
        super()._start_asgi_task(cycle, app)

    def on_message_complete(self) -> None:
        self._come()
        super().on_message_complete()

    def pause_writing(self) -> None:
        super().pause_writing()
        if self._stalled is None:
            self._stalled = self.loop.call_later(self.stalled_seconds, self.turn_out)

    def resume_writing(self) -> None:
        super().resume_writing()
        self._go_on()

    def _leave(self) -> None:
        """Nothing more is answered here: not what is worked on, and nothing that waits behind it."""
        for cycle in (*(cycle for cycle, _ in self.pipeline), self._running, self.cycle):
            if cycle is not None:
                cycle.disconnected = True
        self.pipeline.clear()

    def _wait(self, seconds: float) -> None:
        self._come()
        self._late = self.loop.call_later(seconds, self._too_late)

    def _come(self) -> None:
        if self._late is not None:
            self._late.cancel()
            self._late = None

    def _go_on(self) -> None:
        if self._stalled is not None:
            self._stalled.cancel()
            self._stalled = None

    def _too_late(self) -> None:
        self._late = None
        if self._head_size == 0 and self._in_head:
            self.transport.close()
        else:
            self._answer_and_close(408, "Request Timeout")

    def _answer_and_close(self, status: int, words: str) -> None:
        if self.transport.is_closing():
            return
        if self.cycle is None or self.cycle.response_complete or not self.cycle.response_started:
            head = f"HTTP/1.1 {status} {words}\r\nconnection: close\r\ncontent-length: 0\r\n\r\n"
            self.transport.write(head.encode())
        self._leave()
        self.transport.close()


class Loop(uvloop.Loop):
    """An event loop that waits for a TLS handshake no longer than for a head."""

    async def create_server(self, *args: Any, **kwargs: Any) -> Any:
        if kwargs.get("ssl") is not None:
            kwargs.setdefault("ssl_handshake_timeout", HANDSHAKE_SECONDS)
        return await super().create_server(*args, **kwargs)


def config_of(app: Any, door: Door, *, stop_within: int, tls: tuple[Path, Path] | None = None) -> uvicorn.Config:
    """How a server serves `app` by connections that a door counts; `tls` is certificate and key."""
    return uvicorn.Config(
        app,
        loop=f"{__name__}:{Loop.__name__}",
        http=type("Connection", (GuardedConnection,), {"door": door}),
        ws="none",
        ssl_certfile=tls[0] if tls else None,
        ssl_keyfile=tls[1] if tls else None,
        log_config=None,
        access_log=False,
        lifespan="on",
        timeout_graceful_shutdown=stop_within,
        timeout_keep_alive=75,
        server_header=False,
        proxy_headers=False,
    )
