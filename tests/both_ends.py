"""A front and the console's end of its line, in a thread; what the console does is the test's own."""

from __future__ import annotations

import asyncio
import socket
import threading
from collections.abc import Callable
from concurrent.futures import Future
from pathlib import Path
from typing import Any, cast

from starlette.types import ASGIApp

from balise.front.frames import Caller, Figures, Kind, Sent, Taken
from balise.front.front import serve
from balise.front.ownhosts import OwnHosts
from balise.front.pages import Pages
from balise.listen.connection import Loop
from balise.server.inside import Inside
from balise.server.receive.taking import Taking
from running import until

PUBLIC = "https://console.example"


class TakesAll:
    """Who may deliver are those whose token is "known"; what becomes of a delivery is set by the test."""

    def __init__(self) -> None:
        self.sent: list[Sent] = []
        self.asked: list[str] = []
        self.may_go_on = asyncio.Event()
        self.may_go_on.set()
        self.answer = Taken(200, b"")

    async def caller(self, _path: str, token: str) -> Caller:
        self.asked.append(token)
        return Caller(200, "ingest known") if token == "known" else Caller(401, "not known")

    def begin(self, _sent: Sent) -> None:
        """Nothing is known of any."""

    async def take(self, sent: Sent) -> Taken:
        self.sent.append(sent)
        await self.may_go_on.wait()
        return self.answer


class BothEnds:
    """`web` is a folder of pages."""

    def __init__(self, application: ASGIApp, web: Path = Path("/nowhere"), *, most_large: int = 1 << 20) -> None:
        self._pages = Pages(web)
        self.listener = socket.create_server(("127.0.0.1", 0))
        self.address = self.listener.getsockname()
        self.taking = TakesAll()
        self.figures: list[Figures] = []
        self.inside = Inside(application, cast("Taking", self.taking), self.figures.append)
        self._large = most_large
        self._loop: Future[asyncio.AbstractEventLoop] = Future()
        self._thread = threading.Thread(target=self._run)
        self._thread.start()
        self.loop = self._loop.result(10)
        until(lambda: self.inside.is_there)

    def _run(self) -> None:
        with asyncio.Runner(loop_factory=Loop) as runner:
            runner.run(self._serve())

    async def _serve(self) -> None:
        ours, theirs = socket.socketpair()
        front = asyncio.ensure_future(
            serve(self.listener, theirs, self._pages, OwnHosts(PUBLIC, "http://127.0.0.1"), most_large=self._large)
        )
        loop = asyncio.get_running_loop()
        await loop.create_unix_connection(lambda: self.inside, sock=ours)
        self.inside.say(Kind.OPEN)
        self._loop.set_result(loop)
        await front

    def do(self, what: Callable[[], Any]) -> None:
        """Does something where both ends are."""
        self.loop.call_soon_threadsafe(what)

    def connect(self) -> socket.socket:
        return socket.create_connection(self.address, 10)

    def stop(self) -> None:
        if not self.loop.is_closed():
            self.do(lambda: self.inside.say(Kind.CLOSE))
        self._thread.join(10)
        assert not self._thread.is_alive()


def answer_on(one: socket.socket, seconds: float = 10.0) -> bytes:
    """Head and content of one answer that says how long it is."""
    one.settimeout(seconds)
    found = b""
    while b"\r\n\r\n" not in found:
        found += _some(one)
    head, _, content = found.partition(b"\r\n\r\n")
    size = next(int(line.split(b":")[1]) for line in head.lower().split(b"\r\n") if line.startswith(b"content-length"))
    while len(content) < size:
        content += _some(one)
    return head + b"\r\n\r\n" + content


def _some(one: socket.socket) -> bytes:
    part = one.recv(65_536)
    assert part, "the connection ended"
    return part
