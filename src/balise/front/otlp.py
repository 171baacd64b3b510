"""The paths of deliveries as plain ASGI: they are read here, and taken by the console."""

from __future__ import annotations

import asyncio
import time
from collections import OrderedDict
from typing import Any

from starlette.types import Send

from balise.api.packed import NotUnpacked, unzipped
from balise.api.sent import behind_by
from balise.front.answers import UNKNOWN, status_body
from balise.front.console import Console, Gone
from balise.front.frames import RELAYED, Sent, Taken
from balise.front.hand import InHand, NoRoom
from balise.front.headers import TRANSPORT
from balise.listen.door import Door
from balise.listen.reading import Left, Receive, TooMuch, read_body

MOST_SENT = 8 << 20
MOST_TOKEN = 512
REMEMBERED_SECONDS, MOST_REMEMBERED = 600.0, 20_000
"""For how long it is remembered that a token may deliver. The console looks at it with each delivery all the same."""
JSON_TIMES = 16
"""So many times as much as it came in takes JSON to read."""
PROTOBUF, JSON = b"application/x-protobuf", b"application/json"

_ALWAYS = [
    (b"x-content-type-options", b"nosniff"),
    (b"content-security-policy", b"default-src 'none'; frame-ancestors 'none'"),
    (b"cache-control", b"no-store"),
]


class _Refused(Exception):
    def __init__(self, status: int, why: str, *, retry: int = 0) -> None:
        super().__init__(why)
        self.status = status
        self.retry = retry


class OtlpPaths:
    """Answers what the console does, once that has answered."""

    def __init__(self, console: Console, door: Door, hand: InHand) -> None:
        self._console = console
        self._door = door
        self._hand = hand
        self._callers: OrderedDict[tuple[str, str], tuple[float, str]] = OrderedDict()

    async def __call__(self, scope: dict[str, Any], receive: Receive, send: Send) -> None:
        headers = dict(scope["headers"])
        kind = headers.get(b"content-type", b"").split(b";")[0].strip().lower()
        of_relay = scope["path"] == RELAYED
        as_json = of_relay or kind == JSON
        try:
            token = await self._admit(scope, headers)
            if not of_relay and kind not in (PROTOBUF, JSON):
                raise _Refused(415, "send application/x-protobuf or application/json")
            taken = await self._take(scope["path"], token, headers, receive, as_json=as_json)
            if taken.status in (401, 403):
                self._callers.pop((scope["path"], token), None)
        except _Refused as error:
            taken = Taken(error.status, status_body(str(error), as_json), as_json, error.retry)
        except Gone:
            taken = Taken(503, status_body("the console is ending or begins anew", as_json), as_json, 5)
        await _answer(send, taken, secure=scope.get("scheme") == "https")

    async def _admit(self, scope: dict[str, Any], headers: dict[bytes, bytes]) -> str:
        """The token that a delivery shows, which may deliver here; nothing of a body is read before."""
        if scope["method"] != "POST":
            raise _Refused(405, "send by POST")
        authorization = headers.get(b"authorization", b"")
        if not authorization[:7].lower() == b"bearer ":
            raise _Refused(401, "send a token of role ingest: Authorization: Bearer …")
        token, path = authorization[7:].strip().decode("latin-1"), scope["path"]
        if len(token) > MOST_TOKEN:
            raise _Refused(401, UNKNOWN)
        held = self._callers.get((path, token))
        if held is None or held[0] < time.monotonic():
            caller = await self._console.caller(path, token)
            if caller.status != 200:
                raise _Refused(caller.status, caller.said, retry=10 if caller.status == 503 else 0)
            held = self._callers[(path, token)] = time.monotonic() + REMEMBERED_SECONDS, caller.said
            while len(self._callers) > MOST_REMEMBERED:
                self._callers.popitem(last=False)
        self._door.showed(scope.get("client"), held[1], delivers=True)
        return token

    async def _take(
        self, path: str, token: str, headers: dict[bytes, bytes], receive: Receive, *, as_json: bool
    ) -> Taken:
        try:
            body = await read_body(receive, MOST_SENT)
        except Left:
            raise _Refused(400, "the sender went away before the body was whole") from None
        except TooMuch:
            raise _Refused(413, f"the body is larger than {MOST_SENT} bytes: send it in parts") from None
        encoding = headers.get(b"content-encoding", b"").strip().lower()
        if encoding == b"gzip":
            body = await _unpacked(body)
        elif encoding not in (b"", b"identity"):
            raise _Refused(415, "send it plain or with Content-Encoding: gzip")
        delivery = headers.get(b"x-balise-delivery", b"").decode("latin-1")[:100]
        try:
            with self._hand.holding(len(body) * (JSON_TIMES if as_json and path != RELAYED else 1)):
                sent = Sent(path, token, body, as_json, behind_by(headers, time.time()), delivery)
                return await self._console.take(sent)
        except NoRoom:
            raise _Refused(503, "too much waits to be written: try again in a moment", retry=2) from None


async def _unpacked(body: bytes) -> bytes:
    try:
        # What can only become a little is not worth another thread.
        return unzipped(body) if len(body) < 4096 else await asyncio.to_thread(unzipped, body)
    except NotUnpacked as error:
        raise _Refused(400, str(error)) from None


async def _answer(send: Send, taken: Taken, *, secure: bool) -> None:
    kind = JSON if taken.as_json else PROTOBUF
    headers = [(b"content-type", kind), (b"content-length", b"%d" % len(taken.content)), *_ALWAYS]
    if secure:
        headers.append(TRANSPORT)
    if taken.status == 401:
        headers.append((b"www-authenticate", b"Bearer"))
    if taken.retry:
        headers.append((b"retry-after", b"%d" % taken.retry))
    await send({"type": "http.response.start", "status": taken.status, "headers": headers})
    await send({"type": "http.response.body", "body": taken.content})
