"""The front at work: connections, who may hold them, and what becomes of requests."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import socket
import ssl
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import psutil
import uvicorn
from starlette.middleware.gzip import GZipMiddleware
from starlette.types import Send

from balise.front.console import Console
from balise.front.frames import MOST_REQUEST, PATHS, Figures, Kind
from balise.front.hand import InHand
from balise.front.headers import with_headers
from balise.front.otlp import OtlpPaths
from balise.front.ownhosts import OwnHosts
from balise.front.pages import Pages
from balise.front.passing import Passing
from balise.front.problems import problem
from balise.listen.connection import config_of
from balise.listen.door import Door, room_for_connections
from balise.listen.reading import Receive

STOP_WITHIN = 5
"""Seconds in which what is in hand at the end has to be answered: longer than the console takes to answer that."""
FIGURES_SECONDS = 5.0
log = logging.getLogger(__name__)


class Face:
    """The outermost ASGI callable."""

    def __init__(self, console: Console, door: Door, pages: Pages, hosts: OwnHosts, *, most_large: int) -> None:
        self._otlp = OtlpPaths(console, door, InHand(most_large))
        passing = Passing(console, door, InHand(MOST_REQUEST))
        self._passing = GZipMiddleware(passing, minimum_size=1024, compresslevel=5)
        self._pages = pages
        self._hosts = hosts

    async def __call__(self, scope: dict[str, Any], receive: Receive, send: Send) -> None:
        if not self._hosts.is_ours(scope):
            answer = problem(421, f"This console is reached at {self._hosts.public_url}.")
            await answer(scope, receive, with_headers(scope, send))
        elif scope["path"] in PATHS:
            await self._otlp(scope, receive, send)
        else:
            answers = self._pages.answer(scope) or self._passing
            await answers(scope, receive, with_headers(scope, send))


class _Server(uvicorn.Server):
    """Ends when it is told to, never by a signal."""

    @contextlib.contextmanager
    def capture_signals(self) -> Iterator[None]:
        yield


async def serve(
    listener: socket.socket,
    line: socket.socket,
    pages: Pages,
    hosts: OwnHosts,
    *,
    most_large: int,
    tls: tuple[Path, Path] | None = None,
) -> None:
    """Serves from when the console says so until it says so, or is not there any more."""
    door = Door(most=room_for_connections())
    console = Console()
    config = config_of(Face(console, door, pages, hosts, most_large=most_large), door, stop_within=STOP_WITHIN, tls=tls)
    config.lifespan = "off"
    config.load()
    server = _Server(config)
    opened = asyncio.Event()

    def end(*_: Any) -> None:
        server.should_exit = True
        opened.set()

    console.hears |= {
        Kind.OPEN: lambda *_: opened.set(),
        Kind.CLOSE: end,
        Kind.CERTIFICATE: lambda *_: _renew(config.ssl, tls),
    }
    await asyncio.get_running_loop().create_unix_connection(lambda: console, sock=line)
    telling = asyncio.ensure_future(_tell(console, door))
    losing = asyncio.ensure_future(console.lost.wait())
    losing.add_done_callback(end)
    await opened.wait()
    if not server.should_exit:
        await server.serve(sockets=[listener])
    telling.cancel()
    losing.cancel()


def _renew(context: ssl.SSLContext | None, tls: tuple[Path, Path] | None) -> None:
    if context is not None and tls is not None:
        try:
            context.load_cert_chain(*tls)
        except (ssl.SSLError, OSError) as error:
            log.error("the new certificate cannot be used, the old one stays: %s", error)


async def _tell(console: Console, door: Door) -> None:
    """Tells the console what is counted here, and what this process takes."""
    process = psutil.Process()
    while True:
        used = process.cpu_times()
        told = Figures(dict(door.counters), used.user + used.system, process.memory_info().rss)
        console.say(Kind.FIGURES, 0, told.packed())
        await asyncio.sleep(FIGURES_SECONDS)
