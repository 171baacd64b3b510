"""Receivers of syslog at a relay: what is said to them goes into the buffer as it is."""

from __future__ import annotations

import itertools
import logging
import secrets
import ssl
from collections.abc import Awaitable, Callable, Sequence
from pathlib import Path

from balise.api.receivers import place_of
from balise.api.relays import Frame, ReceiverTarget, ReceiverTurn, pack_messages
from balise.core.moments import Nanos
from balise.listen.syslog.receiver import Receiver, bind
from balise.listen.syslog.tls import receiver_context

log = logging.getLogger(__name__)
Put = Callable[[Frame, bytes], Awaitable[None]]
"""Keeps a frame durably."""


class Receiving:
    """The receivers that the console wants here."""

    def __init__(self, put: Put, certificate: tuple[Path, Path] | None) -> None:
        self._put = put
        self._certificate = certificate
        self._wanted: dict[str, ReceiverTarget] = {}
        self._running: dict[str, Receiver] = {}
        self._problems: dict[str, str] = {}
        self._numbers = itertools.count(1)
        self._start = secrets.token_hex(4)

    async def set_targets(self, targets: Sequence[ReceiverTarget]) -> None:
        """Begins and ends receivers, so that they are these."""
        wanted = {target.name: target for target in targets}
        for name in [n for n in self._running if wanted.get(n) != self._wanted.get(n)]:
            await self._running.pop(name).stop()
        self._wanted = wanted
        self._problems = {}
        await self.look()

    async def look(self) -> None:
        """Begins what is wanted and does not run, as far as that is possible now."""
        for name, target in self._wanted.items():
            if name in self._running:
                continue
            try:
                context = self._context(target)
                bound = bind(place_of(target.listen), target.transport)
            except OSError as error:
                self._problems[name] = f"cannot listen on {target.listen}: {error.strerror or error}"
                continue
            except ValueError as problem:
                self._problems[name] = str(problem)
                continue
            receiver = Receiver(name, target.transport, self._take, context=context)
            self._running[name] = receiver
            await receiver.start(bound)
            self._problems.pop(name, None)
            log.info("receiver=%s listens on %s", name, target.listen)

    def _context(self, target: ReceiverTarget) -> ssl.SSLContext | None:
        """Raises ValueError, which says what is missing, and OSError."""
        if target.transport != "tls":
            return None
        if self._certificate is None:
            raise ValueError("this relay has no certificate: start it with --certificate FILE --key FILE")
        return receiver_context(*self._certificate, target.client_ca)

    async def _take(self, receiver: str, address: str, messages: Sequence[bytes], arrived: Nanos) -> None:
        delivery = f"{self._start}-{next(self._numbers)}"
        frame = Frame(sender=f"receiver:{receiver}", kind="syslog", delivery=delivery, at=arrived)
        await self._put(frame, pack_messages(address, messages))

    def turns(self) -> list[ReceiverTurn]:
        """How each of them goes."""
        found = []
        for name in self._wanted:
            running = self._running.get(name)
            found.append(
                ReceiverTurn(
                    name=name,
                    listening=running is not None,
                    problem=self._problems.get(name, "")[:500],
                    received=running.received if running is not None else 0,
                    dropped=running.dropped if running is not None else 0,
                )
            )
        return found

    async def close(self) -> None:
        for receiver in self._running.values():
            await receiver.stop()
        self._running.clear()
