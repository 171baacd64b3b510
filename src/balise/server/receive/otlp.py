"""The two OTLP/HTTP paths as plain ASGI, for speed: `/v1/metrics` and `/v1/logs`."""

from __future__ import annotations

import asyncio
import logging
import time
from collections.abc import Awaitable, Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import Any, Protocol

from balise.api.agents import behind_by
from balise.api.packed import NotUnpacked, unzipped
from balise.api.relays import BundleAnswer, BundleError, Frame, FrameStatus, unpack
from balise.core.moments import Nanos
from balise.core.series.wire import TooLarge, WireError
from balise.listen.door import Door
from balise.server.errors import Refused
from balise.server.keeping.memory import Short
from balise.server.keeping.space import Full
from balise.server.people.access import WAITING, Access, Principal
from balise.server.receive.answers import answer_body, status_body
from balise.server.receive.bodies import Outcome
from balise.server.receive.logs import LogIntake
from balise.server.receive.metrics import MetricIntake
from balise.server.remote.speakers import Speakers
from balise.store.database import is_full
from balise.store.writer import Busy, Stopped

MOST_SENT = 8 << 20
MOST_IN_HAND, IN_HAND_SHARE = 192 << 20, 0.1
"""Bytes of all large bodies that are worked on at once, or that share of a smaller ceiling of memory."""
SMALL, MOST_SMALL = 256 << 10, 64 << 20
"""Small bodies have room of their own, so that ordinary deliveries go on beside large ones."""
PROTOBUF, JSON = b"application/x-protobuf", b"application/json"
log = logging.getLogger(__name__)

_ALWAYS = [
    (b"x-content-type-options", b"nosniff"),
    (b"content-security-policy", b"default-src 'none'; frame-ancestors 'none'"),
    (b"cache-control", b"no-store"),
]

Send = Callable[[dict[str, Any]], Awaitable[None]]
Receive = Callable[[], Awaitable[dict[str, Any]]]


class _Refused(Exception):
    def __init__(self, status: int, why: str) -> None:
        super().__init__(why)
        self.status = status


class TakesSyslog(Protocol):
    """Takes what a receiver of a relay took in: raises Refused and BundleError, and returns when it is durable."""

    async def relayed(self, relay: int, receiver: str, body: bytes, arrived: Nanos, delivery: str) -> None: ...


class OtlpPaths:
    """Answers 200 only once everything taken is durable."""

    def __init__(
        self,
        *,
        access: Access,
        metrics: MetricIntake,
        logs: LogIntake,
        speakers: Speakers,
        syslog: TakesSyslog,
        door: Door,
        ceiling: int,
    ) -> None:
        self._access = access
        self._metrics = metrics
        self._logs = logs
        self._speakers = speakers
        self._syslog = syslog
        self._door = door
        self._most_large = min(MOST_IN_HAND, int(IN_HAND_SHARE * ceiling))
        self._held_large = self._held_small = 0

    async def __call__(self, scope: dict[str, Any], receive: Receive, send: Send) -> None:
        headers = dict(scope["headers"])
        kind = headers.get(b"content-type", b"").split(b";")[0].strip().lower()
        as_json = kind == JSON
        extra: list[tuple[bytes, bytes]] = []
        if scope.get("scheme") == "https":
            extra.append((b"strict-transport-security", b"max-age=31536000"))
        try:
            if scope["path"] == "/v1/relayed":
                as_json = True
                content = await self._relayed(scope, headers, receive)
                await _answer(send, 200, content, JSON, extra)
                return
            principal = await self._admit(scope, headers, kind)
            body = await _read(receive, headers)
            noun = "points" if scope["path"] == "/v1/metrics" else "records"
            with self._in_hand(len(body) * (16 if as_json else 1)):
                outcome = await self._take(scope, headers, principal, body, as_json=as_json)
            status, content = 200, answer_body(outcome, as_json, noun)
        except _Refused as error:
            status, content = error.status, status_body(str(error), as_json)
            if status == 401:
                extra.append((b"www-authenticate", b"Bearer"))
        except TooLarge as error:
            status, content = 413, status_body(str(error), as_json)
        except WireError as error:
            status, content = 400, status_body(str(error), as_json)
        except Refused as error:
            # Too much of this sender's waits already.
            status, content = error.status, status_body(error.detail, as_json)
            extra.append((b"retry-after", b"5"))
        except (Full, Short) as error:
            status, content = 503, status_body(str(error), as_json)
            extra.append((b"retry-after", b"30"))
        except (Busy, Stopped):
            status, content = 503, status_body("too much waits to be written: try again in a moment", as_json)
            extra.append((b"retry-after", b"2"))
        except Exception as error:  # noqa: BLE001  it is logged, and the sender tries again
            why = f"cannot be kept at the moment ({_why_not(error, scope['path'])})"
            status, content = 503, status_body(why, as_json)
            extra.append((b"retry-after", b"10"))
        await _answer(send, status, content, JSON if as_json else PROTOBUF, extra)

    async def _take(
        self, scope: dict[str, Any], headers: dict[bytes, bytes], principal: Principal, body: bytes, *, as_json: bool
    ) -> Outcome:
        if scope["path"] == "/v1/metrics":
            behind = behind_by(headers, time.time()) if principal.host is not None else None
            return await self._metrics.take(principal, body, as_json=as_json, behind=behind)
        delivery = headers.get(b"x-balise-delivery", b"").decode("latin-1")[:100]
        return await self._logs.take(principal, body, as_json=as_json, delivery=delivery)

    @contextmanager
    def _in_hand(self, size: int) -> Iterator[None]:
        """While a body is worked on: there is room for so many bytes of them. A large one alone is always taken."""
        if size <= SMALL:
            if self._held_small + size > MOST_SMALL:
                raise Busy
            self._held_small += size
            try:
                yield
            finally:
                self._held_small -= size
            return
        if self._held_large and self._held_large + size > self._most_large:
            raise Busy
        self._held_large += size
        try:
            yield
        finally:
            self._held_large -= size

    async def _relayed(self, scope: dict[str, Any], headers: dict[bytes, bytes], receive: Receive) -> bytes:
        """Takes a bundle of what a relay took; answers what became of each frame."""
        relay = await self._bearer(scope, headers)
        if relay.relay is None:
            raise _Refused(403, "this path is for relays")
        body = await _read(receive, headers)
        try:
            frames = list(unpack(body))
        except BundleError as error:
            raise WireError(str(error)) from None
        behind = behind_by(headers, time.time()) or 0.0
        with self._in_hand(len(body)):
            answers = await self.take_frames(relay.relay, frames, behind)
        return BundleAnswer(frames=answers).model_dump_json(exclude_defaults=True).encode()

    async def take_frames(
        self, relay: int, frames: Sequence[tuple[Frame, bytes]], behind: float = 0.0
    ) -> list[FrameStatus]:
        """Takes frames of a relay whose own clock is `behind` so many seconds behind ours, each in its turn."""
        speakers = await asyncio.to_thread(self._speakers_of, relay, [frame for frame, _ in frames])
        taking = (
            self._frame(relay, frame, content, behind, speaker)
            for (frame, content), speaker in zip(frames, speakers, strict=True)
        )
        return list(await asyncio.gather(*taking))

    def _speakers_of(self, relay: int, frames: Sequence[Frame]) -> list[Principal | Exception | None]:
        """Whom frames are from, or why they are nobody's; lines of syslog are of whom they name."""
        found: list[Principal | Exception | None] = []
        for frame in frames:
            try:
                found.append(self._speakers.speaker(relay, frame) if frame.kind != "syslog" else None)
            except Exception as error:  # noqa: BLE001  it is told of this frame alone
                found.append(error)
        return found

    async def _frame(
        self, relay: int, frame: Frame, body: bytes, relay_behind: float, speaker: Principal | Exception | None
    ) -> FrameStatus:
        """Takes one frame of a relay whose own clock is `relay_behind` seconds behind ours."""
        if speaker is None:
            return await self._syslog_frame(relay, frame, body)
        own = 0.0 if frame.sender.startswith("remote:") else frame.behind
        behind = None if own is None else own + relay_behind
        try:
            if isinstance(speaker, Exception):
                raise speaker
            if frame.kind == "metrics":
                of_host = not frame.sender.startswith("service:")
                await self._metrics.take(
                    speaker, body, as_json=frame.json_body, arrived=Nanos(frame.at), of_host=of_host, behind=behind
                )
            else:
                await self._logs.take(
                    speaker, body, as_json=frame.json_body, delivery=frame.delivery, arrived=Nanos(frame.at)
                )
        except Refused as error:
            # A relay keeps what is answered 503 and nothing else: too much at once is no reason to lose it.
            return FrameStatus(status=503 if error.status == 429 else error.status, why=error.detail)
        except WireError as error:
            return FrameStatus(status=413 if isinstance(error, TooLarge) else 400, why=str(error))
        except Full as error:
            return FrameStatus(status=503, why=str(error))
        except (Busy, Stopped):
            return FrameStatus(status=503)
        except Exception as error:  # noqa: BLE001  it is logged, and the relay keeps what it has
            return FrameStatus(status=503, why=_why_not(error, f"frame of {frame.sender}"))
        return FrameStatus(status=200)

    async def _syslog_frame(self, relay: int, frame: Frame, body: bytes) -> FrameStatus:
        """Takes what a receiver of a relay took in; it waits there as long as it cannot be kept here."""
        try:
            receiver = frame.sender.removeprefix("receiver:")
            await self._syslog.relayed(relay, receiver, body, Nanos(frame.at), frame.delivery)
        except Refused as error:
            return FrameStatus(status=error.status, why=error.detail)
        except BundleError as error:
            return FrameStatus(status=400, why=str(error))
        except Exception as error:  # noqa: BLE001  it is logged, and the relay keeps what it has
            return FrameStatus(status=503, why=_why_not(error, f"frame of {frame.sender}"))
        return FrameStatus(status=200)

    async def _bearer(self, scope: dict[str, Any], headers: dict[bytes, bytes]) -> Principal:
        if scope["method"] != "POST":
            raise _Refused(405, "send by POST")
        authorization = headers.get(b"authorization", b"")
        if not authorization[:7].lower() == b"bearer ":
            raise _Refused(401, "send a token of role ingest: Authorization: Bearer …")
        token = authorization[7:].strip().decode("latin-1")
        remembered = self._access.remembered(token)
        # Looking one up may take a disk's time, in which others come.
        principal = remembered[0] if remembered else await asyncio.to_thread(self._access.bearer, token)
        if principal is None:
            raise _Refused(401, "the token is not known or has expired")
        if principal.role != WAITING:
            self._door.showed(scope.get("client"), f"{principal.role} {principal.name}", delivers=True)
        return principal

    async def _admit(self, scope: dict[str, Any], headers: dict[bytes, bytes], kind: bytes) -> Principal:
        principal = await self._bearer(scope, headers)
        if principal.role == WAITING:
            raise _Refused(403, "this machine waits to be let in: approve it in the console, Enrol, Waiting")
        if not principal.may_deliver:
            raise _Refused(403, "the token may not deliver: make one of role ingest")
        if kind not in (PROTOBUF, JSON):
            raise _Refused(415, "send application/x-protobuf or application/json")
        return principal


def _why_not(error: Exception, what: str) -> str:
    """Why something could not be kept; a full disk is not filled further with the story of it."""
    if is_full(error):
        return "the console's disk is full"
    log.error("%s", what, exc_info=error)
    return type(error).__name__


async def _answer(send: Send, status: int, content: bytes, kind: bytes, extra: list[tuple[bytes, bytes]]) -> None:
    headers = [(b"content-type", kind), (b"content-length", str(len(content)).encode()), *_ALWAYS, *extra]
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": content})


async def _read(receive: Receive, headers: dict[bytes, bytes]) -> bytes:
    message = await receive()
    body: bytes = message.get("body", b"")
    if message.get("more_body"):
        parts, size = [body], len(body)
        while message.get("more_body"):
            message = await receive()
            if message["type"] == "http.disconnect":
                raise _Refused(400, "the sender went away before the body was whole")
            parts.append(message.get("body", b""))
            size += len(parts[-1])
            if size > MOST_SENT:
                raise _Refused(413, f"the body is larger than {MOST_SENT} bytes: send it in parts")
        body = b"".join(parts)
    if len(body) > MOST_SENT:
        raise _Refused(413, f"the body is larger than {MOST_SENT} bytes: send it in parts")
    encoding = headers.get(b"content-encoding", b"").strip().lower()
    if encoding == b"gzip":
        try:
            # What can only become a little is not worth another thread.
            return unzipped(body) if len(body) < 4096 else await asyncio.to_thread(unzipped, body)
        except NotUnpacked as error:
            raise WireError(str(error)) from None
    if encoding not in (b"", b"identity"):
        raise _Refused(415, "send it plain or with Content-Encoding: gzip")
    return body
