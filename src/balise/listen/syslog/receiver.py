"""One receiver: an address at which syslog is taken in.

A sender over TCP or TLS that says more than it may is read more slowly, and loses nothing; over UDP, what is too much
is dropped and counted, for each sender by itself.
"""

from __future__ import annotations

import asyncio
import contextlib
import logging
import socket
import ssl
import time
from collections import OrderedDict
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass
from typing import Literal

from balise.core.moments import Nanos, now_nanos
from balise.listen.syslog.framing import Frames
from balise.listen.syslog.pace import Pace

Transport = Literal["udp", "tcp", "tls"]
Taker = Callable[[str, str, Sequence[bytes], Nanos], Awaitable[None]]
"""Takes messages: the receiver's name, the sender's address, what came, and when; done when that is durable."""
AT_ONCE = 64 << 10
"""Bytes of one connection that are read before others have their turn."""
IN_HAND = 2
"""Readings of one connection that may wait to be durable."""
DATAGRAMS, WAITING = 200, 20_000
"""Datagrams that are read before others have their turn, and those of all senders that may wait."""
OF_SENDER = 2_000
"""Datagrams of one sender that may wait."""
MOST_CONNECTIONS, OF_ADDRESS, IDLE = 2_000, 200, 3600.0
MOST_SENDERS = 5_000
BUFFER = 4 << 20
log = logging.getLogger(__name__)


@dataclass
class Sender:
    """What one address said."""

    address: str
    pace: Pace
    received: int = 0
    bytes: int = 0
    dropped: int = 0
    held_back_at: float = 0.0
    """When it said too much last, unix seconds."""
    last_at: float = 0.0


class Receiver:
    """Listens on one address, on the loop it is started on. `received`, `dropped` and `senders` tell how it goes."""

    def __init__(
        self,
        name: str,
        transport: Transport,
        take: Taker,
        *,
        context: ssl.SSLContext | None = None,
        pace: Callable[[float], Pace] = Pace,
    ) -> None:
        self.name = name
        self.transport = transport
        self._take = take
        self._context = context
        self._pace = pace
        self._senders: OrderedDict[str, Sender] = OrderedDict()
        self._forgotten = (0, 0)
        self._server: asyncio.Server | None = None
        self._socket: socket.socket | None = None
        self._connections: dict[asyncio.Task[None], str] = {}
        self._waiting: OrderedDict[str, list[bytes]] = OrderedDict()
        self._waits = 0
        self._emptying: asyncio.Task[None] | None = None
        self.turned_away = 0
        self.refused = ""
        """Why a sender could not be talked to last: a handshake that failed, say."""

    # --- how it goes

    @property
    def senders(self) -> list[Sender]:
        return list(self._senders.values())

    @property
    def received(self) -> int:
        return self._forgotten[0] + sum(one.received for one in self.senders)

    @property
    def dropped(self) -> int:
        return self._forgotten[1] + sum(one.dropped for one in self.senders)

    def _sender(self, address: str) -> Sender:
        sender = self._senders.get(address)
        if sender is None:
            sender = self._senders[address] = Sender(address, self._pace(time.monotonic()))
            if len(self._senders) > MOST_SENDERS:
                _, gone = self._senders.popitem(last=False)
                self._forgotten = (self._forgotten[0] + gone.received, self._forgotten[1] + gone.dropped)
        self._senders.move_to_end(address)
        return sender

    # --- beginning and ending

    async def start(self, bound: socket.socket) -> None:
        """Takes messages in at a socket that is bound already."""
        bound.setblocking(False)
        if self.transport == "udp":
            self._socket = bound
            asyncio.get_running_loop().add_reader(bound, self._datagrams)
            return
        self._server = await asyncio.start_server(
            self._connected, sock=bound, ssl=self._context, limit=AT_ONCE, backlog=512
        )

    async def stop(self) -> None:
        """Ends listening; what was read is handed over first."""
        if self._socket is not None:
            asyncio.get_running_loop().remove_reader(self._socket)
            self._socket.close()
        if self._server is not None:
            self._server.close()
        for task in list(self._connections):
            task.cancel()
        await asyncio.gather(*self._connections, return_exceptions=True)
        if self._emptying is not None:
            with contextlib.suppress(asyncio.TimeoutError):
                await asyncio.wait_for(asyncio.shield(self._emptying), 5)

    # --- streams

    async def _connected(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        address = str((writer.get_extra_info("peername") or ("?",))[0])
        task = asyncio.current_task()
        of_address = sum(one == address for one in self._connections.values())
        if task is None or len(self._connections) >= MOST_CONNECTIONS or of_address >= OF_ADDRESS:
            self.turned_away += 1
            writer.close()
            return
        self._connections[task] = address
        try:
            await self._read_all(reader, address)
        except (TimeoutError, OSError, ssl.SSLError, asyncio.CancelledError):
            pass
        except Exception:
            log.exception("receiver=%s sender=%s", self.name, address)
        finally:
            self._connections.pop(task, None)
            writer.close()

    async def _read_all(self, reader: asyncio.StreamReader, address: str) -> None:
        frames = Frames()
        in_hand: list[asyncio.Task[None]] = []
        try:
            while data := await asyncio.wait_for(reader.read(AT_ONCE), IDLE):
                sender = self._sender(address)
                sender.bytes += len(data)
                messages = frames.feed(data)
                if messages:
                    in_hand.append(asyncio.ensure_future(self._hand_over(address, messages)))
                    if len(in_hand) >= IN_HAND:
                        await in_hand.pop(0)
                wait = sender.pace.wait(len(messages), time.monotonic())
                if wait > 0:
                    sender.held_back_at = time.time()
                    await asyncio.sleep(min(wait, 5.0))
        finally:
            last = frames.end()
            if last:
                in_hand.append(asyncio.ensure_future(self._hand_over(address, last)))
            await asyncio.shield(asyncio.gather(*in_hand))

    # --- datagrams

    def _datagrams(self) -> None:
        """Reads what has come, and leaves out what is too much of a sender before it costs anything."""
        if self._socket is None:
            return
        now = time.monotonic()
        for _ in range(DATAGRAMS):
            try:
                data, peer = self._socket.recvfrom(AT_ONCE)
            except OSError:
                break
            sender = self._sender(peer[0])
            sender.bytes += len(data)
            waiting = self._waiting.setdefault(peer[0], [])
            if len(waiting) >= OF_SENDER or self._waits >= WAITING or not sender.pace.draw(1, now):
                sender.dropped += 1
                sender.held_back_at = time.time()
                if not waiting:
                    self._waiting.pop(peer[0], None)
                continue
            waiting.append(data.rstrip(b"\r\n\x00"))
            self._waits += 1
        if self._waiting and (self._emptying is None or self._emptying.done()):
            self._emptying = asyncio.get_running_loop().create_task(self._empty())

    async def _empty(self) -> None:
        """Hands over what waits, the senders in turn."""
        while self._waiting:
            address, messages = self._waiting.popitem(last=False)
            self._waits -= len(messages)
            await self._hand_over(address, messages)

    # --- handing over

    async def _hand_over(self, address: str, messages: Sequence[bytes]) -> None:
        said = [message for message in messages if message]
        sender = self._sender(address)
        sender.last_at = time.time()
        if said:
            await self._take(self.name, address, said, now_nanos())
        sender.received += len(said)


def bind(listen: tuple[str, int], transport: Transport) -> socket.socket:
    """A socket bound to an address and a port, and listening unless it is for datagrams. Raises OSError."""
    host, port = listen
    kind = socket.SOCK_DGRAM if transport == "udp" else socket.SOCK_STREAM
    family, _, _, _, place = socket.getaddrinfo(host, port, type=kind, flags=socket.AI_NUMERICHOST)[0]
    bound = socket.socket(family, kind)
    try:
        if transport == "udp":
            bound.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, BUFFER)
        else:
            bound.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        bound.bind(place)
        if transport != "udp":
            bound.listen(512)
    except OSError:
        bound.close()
        raise
    return bound
