"""Running a relay until it is told to stop."""

from __future__ import annotations

import asyncio
import contextlib
import signal
import socket
from pathlib import Path

import uvicorn

from balise.relay.identity import RelayError, load
from balise.relay.relay import Relay


def run_relay(
    folder: Path,
    address: str,
    port: int,
    *,
    limit: int,
    side_by_side: int,
    certificate: tuple[Path, Path] | None = None,
) -> int:
    """`balise relay run`.

    Raises:
        RelayError: this machine is no relay yet, or the place to listen at is taken.
    """
    identity = load(folder)
    listener = socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET)
    listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        listener.bind((address, port))
    except OSError as error:
        listener.close()
        raise RelayError(f"cannot listen on {address}:{port}: {error.strerror}; choose another with --listen") from None

    async def serve() -> None:
        relay = Relay(folder, identity, limit=limit, side_by_side=side_by_side)
        config = uvicorn.Config(
            relay.face(),
            log_config=None,
            access_log=False,
            lifespan="on",
            timeout_graceful_shutdown=5,
            timeout_keep_alive=75,
            server_header=False,
            proxy_headers=False,
            ssl_certfile=certificate[0] if certificate else None,
            ssl_keyfile=certificate[1] if certificate else None,
            limit_concurrency=4000,
        )
        server = uvicorn.Server(config)
        # The server raises the signal that ended it once more: it has done its work then.
        signal.signal(signal.SIGTERM, lambda *_: None)
        await server.serve(sockets=[listener])

    with contextlib.suppress(KeyboardInterrupt):
        asyncio.run(serve())
    return 0
