"""Running a relay until it is told to stop."""

from __future__ import annotations

import asyncio
import contextlib
import signal
import socket
from pathlib import Path

import uvicorn

from balise.listen.connection import Loop, config_of
from balise.listen.door import Door, room_for_connections
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

    door = Door(most=room_for_connections())

    async def serve() -> None:
        relay = Relay(folder, identity, limit=limit, side_by_side=side_by_side, certificate=certificate)
        config = config_of(relay.face(door), door, stop_within=5, tls=certificate)
        server = uvicorn.Server(config)
        # The server raises the signal that ended it once more: it has done its work then.
        signal.signal(signal.SIGTERM, lambda *_: None)
        await server.serve(sockets=[listener])

    with contextlib.suppress(KeyboardInterrupt), asyncio.Runner(loop_factory=Loop) as runner:
        runner.run(serve())
    return 0
