"""Running the service."""

from __future__ import annotations

import contextlib
import logging
import os
import signal
import socket
import sys
from types import FrameType

import uvicorn

from balise.server.app import Face
from balise.server.console import Console, Settings
from balise.server.folder import data_folder

log = logging.getLogger(__name__)


def bound_socket(address: str, port: int) -> socket.socket:
    """A listening socket; exits plainly when the place is taken."""
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    listener = socket.socket(family)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((address, port))
    except OSError as error:
        listener.close()
        raise SystemExit(
            f"balise: cannot listen on {address}:{port}: {error.strerror}. Is another console running there? "
            "Choose another place with --listen."
        ) from None
    return listener


class _Server(uvicorn.Server):
    """Ends the open streams before it waits for connections to close."""

    def __init__(self, config: uvicorn.Config, console: Console) -> None:
        super().__init__(config)
        self._console = console

    async def shutdown(self, sockets: list[socket.socket] | None = None) -> None:
        self._console.hub.stop()
        await super().shutdown(sockets)


def run_server(console: Console, listener: socket.socket) -> None:
    """Serves until told to stop, then ends in order."""
    config = uvicorn.Config(
        Face(console),
        log_config=None,
        access_log=False,
        lifespan="on",
        timeout_graceful_shutdown=2,
        timeout_keep_alive=75,
        server_header=False,
        proxy_headers=False,
        limit_concurrency=4000,
    )

    # The server raises the signal that ended it once more: as an exit, so that whoever called can clean up.
    signal.signal(signal.SIGTERM, _leave)
    with contextlib.suppress(KeyboardInterrupt):
        _Server(config, console).run(sockets=[listener])


def _leave(_number: int, _frame: FrameType | None) -> None:
    raise SystemExit(0)


def serve(address: str, port: int, data: str | None) -> int:
    """`balise serve`."""
    os.umask(0o077)
    folder = data_folder(data)
    listener = bound_socket(address, port)
    shown = f"[{address}]" if ":" in address else address
    console = Console(Settings(data=folder, base_url=f"http://{shown}:{port}"))
    log.info("console at http://%s:%d data=%s", shown, port, folder)
    if not console.access.has_users():
        print(
            f"Nobody can sign in yet. Make the first user with:\n  balise user add NAME --role administrator "
            f"--password-stdin --data {folder}\n(it reads the password's one line from standard input)",
            file=sys.stderr,
        )
    if not address.startswith("127.") and address not in ("::1", "localhost"):
        log.warning("listening on %s without TLS: put a TLS proxy in front, or listen on loopback", address)
    run_server(console, listener)
    return 0
