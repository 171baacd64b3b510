"""The relay's HTTP face: OTLP is kept here, what concerns agents is passed on to the console."""

from __future__ import annotations

import asyncio
import json
import logging
import secrets
import time
from collections.abc import Awaitable, Callable
from typing import Any

import httpx
from google.protobuf.message import DecodeError
from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceRequest
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest

from balise import __version__
from balise.api.packed import NotUnpacked, unzipped
from balise.api.problems import Problem
from balise.api.relays import Frame
from balise.api.sent import behind_by
from balise.api.status import Status
from balise.core.events.records import check_records
from balise.core.moments import now_nanos
from balise.core.series.wire import MOST_NUMBERS, TooLarge, check_json, read_metric, sections
from balise.listen.door import Door
from balise.listen.reading import Left, Receive, TooMuch, read_body
from balise.relay.outlet import Outlet, host_of
from balise.relay.senders import Away, Senders

log = logging.getLogger(__name__)
MOST_SENT = 8 << 20
MOST_PASSED_ON = 1 << 20
PASSED_ON = ("/api/v1/agents/", "/api/v1/certificate")
_KEPT_HEADERS = (b"authorization", b"content-type", b"if-none-match", b"accept")
Send = Callable[[dict[str, Any]], Awaitable[None]]


class _Answer(Exception):
    """An answer other than success, from wherever it is found out."""

    def __init__(self, status: int, why: str, *, retry: int | None = None) -> None:
        super().__init__(why)
        self.status = status
        self.retry = retry


class RelayFace:
    """A plain ASGI callable. `start` and `stop` are awaited with the server's own."""

    def __init__(
        self,
        outlet: Outlet,
        senders: Senders,
        http: httpx.AsyncClient,
        door: Door,
        *,
        start: Callable[[], Awaitable[None]],
        stop: Callable[[], Awaitable[None]],
    ) -> None:
        self._outlet = outlet
        self._senders = senders
        self._http = http
        self._door = door
        self._reading = asyncio.Semaphore(2)
        self._start = start
        self._stop = stop

    async def __call__(self, scope: dict[str, Any], receive: Receive, send: Send) -> None:
        if scope["type"] == "lifespan":
            await self._lifespan(receive, send)
        elif scope["type"] == "http":
            try:
                await self._answer(scope, receive, send)
            except _Answer as answer:
                await _problem(send, answer)

    async def _lifespan(self, receive: Receive, send: Send) -> None:
        while True:
            message = await receive()
            if message["type"] == "lifespan.startup":
                await self._start()
                await send({"type": "lifespan.startup.complete"})
            else:
                await self._stop()
                await send({"type": "lifespan.shutdown.complete"})
                return

    async def _answer(self, scope: dict[str, Any], receive: Receive, send: Send) -> None:
        path = scope["path"]
        if path in ("/v1/metrics", "/v1/logs"):
            await self._take(scope, receive, send)
        elif path == "/api/v1/status":
            content = Status(version=__version__, state="ready").model_dump_json().encode()
            await _send(send, 200, content, b"application/json")
        elif path.startswith(PASSED_ON):
            await self._pass_on(scope, receive, send)
        else:
            raise _Answer(404, f"A relay has nothing at {path}: ask the console.")

    # --- OTLP

    async def _take(self, scope: dict[str, Any], receive: Receive, send: Send) -> None:
        headers = dict(scope["headers"])
        if scope["method"] != "POST":
            raise _Answer(405, "send by POST")
        words = headers.get(b"authorization", b"").split()
        if len(words) != 2 or words[0].lower() != b"bearer":
            raise _Answer(401, "send a token of role ingest: Authorization: Bearer …")
        try:
            sender = await self._senders.of(words[1].decode("latin-1"))
        except Away:
            raise _Answer(503, "the console is away, and this token was never shown here before", retry=10) from None
        if sender is None:
            raise _Answer(401, "the token is not known or has expired")
        self._door.showed(scope.get("client"), sender.name, delivers=True)
        if sender.role not in ("ingest", "agent", "administrator"):
            raise _Answer(403, "the token may not deliver")
        content_type = headers.get(b"content-type", b"").split(b";")[0].strip().lower()
        as_json = content_type == b"application/json"
        if not as_json and content_type != b"application/x-protobuf":
            raise _Answer(415, "send application/x-protobuf or application/json")
        sent, encoding = await _read(receive, MOST_SENT), headers.get(b"content-encoding", b"").strip().lower()
        kind = "metrics" if scope["path"] == "/v1/metrics" else "logs"
        async with self._reading:
            body = await asyncio.to_thread(_checked, kind, sent, encoding, as_json)
        delivery = headers.get(b"x-balise-delivery", b"").decode("latin-1")[:100] or f"relay-{secrets.token_hex(12)}"
        frame = Frame(
            sender=sender.sender,
            kind=kind,  # type: ignore[arg-type]
            delivery=delivery,
            at=now_nanos(),
            json_body=as_json,
            behind=behind_by(headers, time.time()) if sender.role == "agent" else None,
        )
        try:
            await self._outlet.put(frame, body, host_of(sender.sender))
        except OSError as error:
            raise _Answer(503, f"cannot be kept at the moment ({error.strerror})", retry=10) from None
        await _send(send, 200, b"{}" if as_json else b"", content_type)

    # --- what the console answers itself

    async def _pass_on(self, scope: dict[str, Any], receive: Receive, send: Send) -> None:
        headers = {k: v for k, v in scope["headers"] if k in _KEPT_HEADERS}
        body = await _read(receive, MOST_PASSED_ON)
        query = scope.get("query_string", b"").decode("latin-1")
        url = scope["path"] + (f"?{query}" if query else "")
        if b"authorization" not in headers:
            # The relay's own token must not speak for somebody who has none.
            headers[b"authorization"] = b""
        try:
            answer = await self._http.request(scope["method"], url, content=body, headers=headers, timeout=90.0)
        except httpx.HTTPError as error:
            raise _Answer(503, f"The console cannot be reached from this relay: {error}", retry=15) from None
        extra = [(b"etag", answer.headers["etag"].encode())] if "etag" in answer.headers else []
        kind = answer.headers.get("content-type", "application/json").encode()
        await _send(send, answer.status_code, answer.content, kind, extra)


def _checked(kind: str, sent: bytes, encoding: bytes, as_json: bool) -> bytes:
    """The content of a body; refuses at once what the console could never read."""
    body = _content(sent, encoding)
    try:
        if as_json:
            check_json(body)
            json.loads(body)
        elif kind == "metrics":
            # A point takes two bytes at least.
            for one in sections(body) if len(body) > 2 * MOST_NUMBERS else ():
                read_metric(body, one.metric)
            ExportMetricsServiceRequest.FromString(body)
        else:
            check_records(body)
            ExportLogsServiceRequest.FromString(body)
    except TooLarge as error:
        raise _Answer(413, str(error)) from None
    except (DecodeError, ValueError, RecursionError):
        raise _Answer(400, f"the body is no OTLP {kind} request") from None
    return body


def _content(body: bytes, encoding: bytes) -> bytes:
    if encoding in (b"", b"identity"):
        return body
    if encoding != b"gzip":
        raise _Answer(415, "send it plain or with Content-Encoding: gzip")
    try:
        return unzipped(body)
    except NotUnpacked as error:
        raise _Answer(400, str(error)) from None


async def _read(receive: Receive, most: int) -> bytes:
    try:
        return await read_body(receive, most)
    except Left:
        raise _Answer(400, "the sender went away before the body was whole") from None
    except TooMuch:
        raise _Answer(413, f"the body is larger than {most} bytes: send it in parts") from None


async def _problem(send: Send, answer: _Answer) -> None:
    content = Problem(title="Not done", status=answer.status, detail=str(answer)).model_dump_json().encode()
    extra = [(b"retry-after", str(answer.retry).encode())] if answer.retry else []
    await _send(send, answer.status, content, b"application/problem+json", extra)


async def _send(
    send: Send, status: int, content: bytes, kind: bytes, extra: list[tuple[bytes, bytes]] | None = None
) -> None:
    headers = [(b"content-type", kind), (b"content-length", str(len(content)).encode()), *(extra or [])]
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": content})
