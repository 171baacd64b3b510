"""Who may hold connections: strangers a few for each address, those who showed who they are many more."""

from __future__ import annotations

import resource
import time
from collections import Counter, OrderedDict
from collections.abc import Callable
from typing import Protocol

Client = tuple[str, int]
"""Address and port, as a request's scope has them."""
STRANGERS, STRANGERS_OF_ADDRESS = 1024, 64
ALWAYS_OF_ADDRESS = 512
"""So many connections an address may open within `GRACE`: many behind one address come at once after an outage."""
GRACE = 2.0
"""Seconds in which a connection is not turned out for another stranger of its own address."""
OF_ONE, OF_DELIVERER = 128, 4096
"""Connections of one person, and of one token by which many may deliver."""
MOST, FILES_KEPT = 8192, 512
"""Connections in all, and the open files that are kept for all else."""


class Connection(Protocol):
    """What the door knows of a connection."""

    client: Client | None

    def turn_out(self) -> None:
        """Ends it, whatever it is doing."""


class Door:
    """Counts connections, and turns out the oldest of whoever holds too many.

    A connection is a stranger's until a request on it showed a token or a session that is known.
    """

    def __init__(
        self,
        *,
        most: int = MOST,
        strangers: int = STRANGERS,
        of_address: int = STRANGERS_OF_ADDRESS,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self._most = most
        self._strangers_at_most = strangers
        self._of_address = of_address
        self._clock = clock
        self._strangers: OrderedDict[Client, tuple[Connection, float]] = OrderedDict()
        self._by_address: dict[str, OrderedDict[Client, None]] = {}
        self._known: dict[Client, tuple[Connection, str]] = {}
        self._by_name: dict[str, OrderedDict[Client, None]] = {}
        self.counters: Counter[str] = Counter()

    @property
    def strangers(self) -> int:
        return len(self._strangers)

    @property
    def known(self) -> int:
        return len(self._known)

    def came(self, connection: Connection) -> None:
        """A new connection, which may have others turned out; itself when there is no other stranger to go."""
        client = connection.client
        if client is None:
            return
        now = self._clock()
        self._strangers[client] = connection, now
        mine = self._by_address.setdefault(client[0], OrderedDict())
        mine[client] = None
        oldest = next(iter(mine))
        old_enough = now - self._strangers[oldest][1] >= GRACE
        if len(mine) > ALWAYS_OF_ADDRESS or (len(mine) > self._of_address and old_enough):
            self._turn_out(oldest)
        elif len(self._strangers) > self._strangers_at_most or len(self._strangers) + len(self._known) > self._most:
            # Whoever holds most of what is short gives way.
            fullest = max(self._by_address.values(), key=len)
            self._turn_out(next(iter(fullest)))

    def went(self, connection: Connection) -> None:
        """A connection has ended."""
        client = connection.client
        if client is not None:
            self._forget_stranger(client)
            self._forget_known(client)

    def showed(self, client: Client | None, name: str, *, delivers: bool = False) -> None:
        """A request of this connection is somebody's that is known; `delivers` for a token that many may share."""
        found = self._strangers.get(client) if client is not None else None
        if client is None or found is None:
            return
        self._forget_stranger(client)
        self._known[client] = found[0], name
        mine = self._by_name.setdefault(name, OrderedDict())
        mine[client] = None
        if len(mine) > (OF_DELIVERER if delivers else OF_ONE):
            self._turn_out(next(iter(mine)))

    def _turn_out(self, client: Client) -> None:
        held = self._strangers.get(client) or self._known.get(client)
        self._forget_stranger(client)
        self._forget_known(client)
        if held is not None:
            self.counters["turned-out"] += 1
            held[0].turn_out()

    def _forget_stranger(self, client: Client) -> None:
        if self._strangers.pop(client, None) is not None:
            _take_from(self._by_address, client[0], client)

    def _forget_known(self, client: Client) -> None:
        held = self._known.pop(client, None)
        if held is not None:
            _take_from(self._by_name, held[1], client)


def _take_from(held: dict[str, OrderedDict[Client, None]], name: str, client: Client) -> None:
    mine = held[name]
    mine.pop(client, None)
    if not mine:
        del held[name]


def room_for_connections() -> int:
    """How many connections this process may hold; takes as many open files as the system lets it."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = MOST + FILES_KEPT
    allowed = wanted if hard == resource.RLIM_INFINITY else min(wanted, hard)
    if soft != resource.RLIM_INFINITY and soft < allowed:
        resource.setrlimit(resource.RLIMIT_NOFILE, (allowed, hard))
        soft = allowed
    files = wanted if soft == resource.RLIM_INFINITY else soft
    return max(64, min(MOST, files - FILES_KEPT))
