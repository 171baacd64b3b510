"""What the front and the console say to each other: frames on a socket, each with its kind and a number."""

from __future__ import annotations

import asyncio
import json
import math
import struct
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from enum import IntEnum
from typing import Any, NamedTuple, cast

_HEAD = struct.Struct("<IBQ")
"""How many bytes follow the head, of which kind they are, and which question they belong to."""
MOST_FRAME = 48 << 20
MOST_REQUEST = 1 << 20
"""Bytes of any request but a delivery."""


class Kind(IntEnum):
    """What a frame says."""

    # Of the front: whose is a token; a delivery; any other request; so many bytes of its answer have left; whoever
    # asked has left; what is counted.
    WHO = 1
    TAKE = 2
    ASK = 3
    MORE = 4
    LEFT = 5
    FIGURES = 6
    # Of the console: whose a token is; what became of a delivery; the head of an answer, and its content bit by bit.
    KNOWN = 11
    TAKEN = 12
    BEGUN = 13
    PART = 14
    # Of the console: connections may come; no more may; there is another certificate.
    OPEN = 21
    CLOSE = 22
    CERTIFICATE = 23


class Ends(IntEnum):
    """How a part of an answer ends: it broke off, it is the last one, or there are more."""

    CUT = 0
    LAST = 1
    GOES_ON = 2


PATHS = METRICS, _LOGS, RELAYED = "/v1/metrics", "/v1/logs", "/v1/relayed"
"""The paths of deliveries."""
_SENT = struct.Struct("<BBdHH")
_TAKEN = struct.Struct("<HHB")
_COUNT = struct.Struct("<I")


class Sent(NamedTuple):
    """A delivery as it came, unpacked.

    Args:
        path: one of `PATHS`.
        behind: by how many seconds its sender's clock is behind ours; None when that is not told.
        delivery: what its sender calls it, "" for nothing.
    """

    path: str
    token: str
    body: bytes
    as_json: bool = False
    behind: float | None = None
    delivery: str = ""

    def packed(self) -> bytes:
        token, delivery = self.token.encode("latin-1"), self.delivery.encode("latin-1")
        behind = math.nan if self.behind is None else self.behind
        head = _SENT.pack(PATHS.index(self.path), self.as_json, behind, len(token), len(delivery))
        return b"".join((head, token, delivery, self.body))

    @classmethod
    def unpacked(cls, content: bytes) -> Sent:
        path, as_json, behind, token, delivery = _SENT.unpack_from(content)
        named = _SENT.size + token
        begins = named + delivery
        return cls(
            PATHS[path],
            content[_SENT.size : named].decode("latin-1"),
            content[begins:],
            bool(as_json),
            None if math.isnan(behind) else behind,
            content[named:begins].decode("latin-1"),
        )


class Taken(NamedTuple):
    """What is answered to a delivery; `retry` is after how many seconds it may come again, 0 for nothing said."""

    status: int
    content: bytes
    as_json: bool = False
    retry: int = 0

    def packed(self) -> bytes:
        return _TAKEN.pack(self.status, self.retry, self.as_json) + self.content

    @classmethod
    def unpacked(cls, content: bytes) -> Taken:
        status, retry, as_json = _TAKEN.unpack_from(content)
        return cls(status, content[_TAKEN.size :], bool(as_json), retry)


@dataclass(frozen=True)
class Caller:
    """Whose a token is: its name when it may deliver at a path (`status` 200), else why not."""

    status: int
    said: str

    def packed(self) -> bytes:
        return counted(self.status) + self.said.encode()

    @classmethod
    def unpacked(cls, content: bytes) -> Caller:
        return cls(count_of(content), content[_COUNT.size :].decode())


@dataclass(frozen=True)
class Figures:
    """What a front counts, the seconds of a core that it took so far, and the bytes it holds."""

    counters: dict[str, int]
    cpu_seconds: float
    memory: int

    def packed(self) -> bytes:
        return json.dumps([self.counters, self.cpu_seconds, self.memory]).encode()

    @classmethod
    def unpacked(cls, content: bytes) -> Figures:
        return cls(*json.loads(content))


def counted(count: int) -> bytes:
    return _COUNT.pack(count)


def count_of(content: bytes) -> int:
    return cast("int", _COUNT.unpack_from(content)[0])


def packed_request(scope: Mapping[str, Any], body: bytes) -> bytes:
    """A request of ASGI; what only its own server understands is left out."""
    said = {name: scope.get(name) for name in ("type", "http_version", "scheme", "method", "client", "server", "path")}
    for name in ("raw_path", "query_string"):
        said[name] = scope[name].decode("latin-1")
    said["headers"] = _as_text(scope["headers"])
    head = json.dumps(said, separators=(",", ":")).encode()
    return b"".join((counted(len(head)), head, body))


def unpacked_request(content: bytes) -> tuple[dict[str, Any], bytes]:
    ends = _COUNT.size + count_of(content)
    scope = json.loads(content[_COUNT.size : ends])
    for name in ("raw_path", "query_string"):
        scope[name] = scope[name].encode("latin-1")
    for name in ("client", "server"):
        scope[name] = tuple(scope[name]) if scope[name] else None
    scope.update(headers=_as_bytes(scope["headers"]), root_path="", state={}, asgi={"version": "3.0"})
    return scope, content[ends:]


def packed_head(status: int, headers: list[tuple[bytes, bytes]], who: str, delivers: bool) -> bytes:
    """The head of an answer, and who asked, "" for nobody that is known."""
    return json.dumps([status, _as_text(headers), who, delivers], separators=(",", ":")).encode()


def unpacked_head(content: bytes) -> tuple[int, list[tuple[bytes, bytes]], str, bool]:
    status, headers, who, delivers = json.loads(content)
    return status, _as_bytes(headers), who, delivers


def _as_text(headers: list[tuple[bytes, bytes]]) -> list[tuple[str, str]]:
    return [(name.decode("latin-1"), value.decode("latin-1")) for name, value in headers]


def _as_bytes(headers: list[list[str]]) -> list[tuple[bytes, bytes]]:
    return [(name.encode("latin-1"), value.encode("latin-1")) for name, value in headers]


MOST_SAID = 512
"""Heads and contents that wait to be said together."""


class Line(asyncio.Protocol):
    """One end of the socket; `hears` names what is done with each kind of frame."""

    def __init__(self) -> None:
        self.hears: dict[int, Callable[[int, bytes], None]] = {}
        self._held = bytearray()
        self._saying: list[bytes] = []
        self._transport: asyncio.Transport | None = None

    @property
    def is_there(self) -> bool:
        """Whether there is somebody at the other end."""
        return self._transport is not None and not self._transport.is_closing()

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = cast("asyncio.Transport", transport)

    def say(self, kind: int, number: int = 0, content: bytes = b"") -> None:
        """Says something, with all else that is said in the same turn of the loop: each time the other end is woken
        takes as long as much of what is said. To nobody when there is nobody."""
        if not self._saying:
            asyncio.get_running_loop().call_soon(self._say_now)
        self._saying += (_HEAD.pack(len(content), kind, number), content)
        if len(self._saying) >= MOST_SAID:
            self._say_now()

    def _say_now(self) -> None:
        """Says what waits to be said."""
        saying, self._saying = self._saying, []
        if saying and self._transport is not None and self.is_there:
            self._transport.writelines(saying)

    def data_received(self, data: bytes) -> None:
        held = self._held
        held += data
        at, there = 0, len(held)
        while there - at >= _HEAD.size:
            size, kind, number = _HEAD.unpack_from(held, at)
            if size > MOST_FRAME:
                self.cut()
                return
            ends = at + _HEAD.size + size
            if ends > there:
                break
            content = bytes(memoryview(held)[at + _HEAD.size : ends])
            at = ends
            self.hears[kind](number, content)
        if at:
            del held[:at]

    def cut(self) -> None:
        if self._transport is not None:
            self._transport.abort()
