"""Running the service."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
import signal
import socket
import sys
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from urllib.parse import urlsplit

import uvloop

from balise.listen.rubbish import look_rarely
from balise.server.app import build_api
from balise.server.folder import data_folder
from balise.server.fronting import Front
from balise.server.inside import Inside
from balise.server.keeping.memory import share_heaps
from balise.server.life import begin, close, end_waits
from balise.server.parts import Parts, build
from balise.server.settings import Settings
from balise.server.tls.certificates import ServerCertificate, given, self_made
from balise.store.folders import served

log = logging.getLogger(__name__)


@dataclass(frozen=True)
class Tls:
    """How to serve HTTPS: with a given certificate and key, with a self-made one, or not at all."""

    certificate: Path | None = None
    key: Path | None = None
    self_made: bool = False


def _certificate(tls: Tls, folder: Path, names: list[str]) -> ServerCertificate | None:
    if tls.certificate is not None:
        return given(tls.certificate, tls.key or tls.certificate)
    if tls.self_made:
        return self_made(folder / "tls", [n for n in names if n and n not in ("0.0.0.0", "::")])  # noqa: S104
    return None


SWITCH_SECONDS = 0.0002
"""For how long one thread may compute before others have their turn. Each step of the loop and of SQLite waits for one:
with two threads that compute, what takes four turns takes 13 ms at a thousandth, 5 ms at this, and the two lose a tenth
of their pace by it."""


STOP_WITHIN = 2.0
"""Seconds in which what is in hand at the end has to be answered."""
MOST_IN_HAND, IN_HAND_SHARE = 192 << 20, 0.1
"""Bytes of all large bodies that are worked on at once, or that share of a smaller ceiling of memory."""


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


def run_server(parts: Parts, listener: socket.socket) -> None:
    """Serves until told to stop, then ends in order."""
    sys.setswitchinterval(SWITCH_SECONDS)
    look_rarely()
    with contextlib.suppress(KeyboardInterrupt), asyncio.Runner(loop_factory=uvloop.new_event_loop) as runner:
        runner.run(_served(parts, listener))


async def _served(parts: Parts, listener: socket.socket) -> None:
    loop = asyncio.get_running_loop()
    told = _told_to_stop(loop)
    api = build_api(parts)
    certificate = parts.settings.certificate
    front = Front(
        listener,
        lambda: Inside(api, parts.taking, parts.fronts.told),
        parts.fronts,
        most_large=min(MOST_IN_HAND, int(IN_HAND_SHARE * parts.memory.ceiling)),
        urls=(parts.settings.base_url, parts.settings.public_url),
        tls=(certificate.chain, certificate.key) if certificate else None,
    )
    if certificate is not None:
        certificate.renew = partial(loop.call_soon_threadsafe, front.renew)
    front.start()
    try:
        await asyncio.to_thread(begin, parts, loop)
        front.open()
        await told.wait()
        end_waits(parts)
    finally:
        await front.close(STOP_WITHIN)
    await asyncio.to_thread(close, parts)


def _told_to_stop(loop: asyncio.AbstractEventLoop) -> asyncio.Event:
    """Set when a signal says so. Whoever presses Ctrl-C once more does not want to wait for what is at work."""
    told = asyncio.Event()

    def interrupted() -> None:
        told.set()
        loop.remove_signal_handler(signal.SIGINT)

    loop.add_signal_handler(signal.SIGTERM, told.set)
    loop.add_signal_handler(signal.SIGINT, interrupted)
    return told


def serve(
    address: str,
    port: int,
    data: str | None,
    *,
    tls: Tls | None = None,
    public_url: str = "",
    memory: int | None = None,
    aside: Path | None = None,
    backups: Path | None = None,
    exports: Path | None = None,
    channels_may_run: bool = False,
) -> int:
    """`balise serve`. Raises DataError when another runs on the folder, or it is not whole."""
    os.umask(0o077)
    share_heaps()
    folder = data_folder(data)
    certificate = _certificate(tls or Tls(), folder, [address, urlsplit(public_url).hostname or ""])
    listener = bound_socket(address, port)
    shown = f"[{address}]" if ":" in address else address
    base = f"{'https' if certificate else 'http'}://{shown}:{port}"
    settings = Settings(
        data=folder,
        base_url=base,
        public_url=public_url.rstrip("/"),
        certificate=certificate,
        memory=memory,
        aside=aside,
        backups=backups,
        exports=exports,
        channels_may_run=channels_may_run,
    )
    if certificate is None and not address.startswith("127.") and address not in ("::1", "localhost"):
        log.warning("listening on %s without TLS: start it with --tls self, or with --certificate and --key", address)
    with served(folder):
        _serve(settings, listener)
    return 0


def _serve(settings: Settings, listener: socket.socket) -> None:
    parts = build(settings)
    log.info("console at %s data=%s", settings.base_url, settings.data)
    if (certificate := settings.certificate) is not None:
        log.info("certificate=%s fingerprint=%s", certificate.chain, certificate.fingerprint)
    if not parts.access.has_users():
        print(
            f"Nobody can sign in yet. Make the first user with:\n  balise user add NAME --role administrator "
            f"--password-stdin --data {settings.data}\n(it reads the password's one line from standard input)",
            file=sys.stderr,
        )
    run_server(parts, listener)
