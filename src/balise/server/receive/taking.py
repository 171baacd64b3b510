"""Taking what is delivered over OTLP/HTTP, and what relays took."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Sequence
from typing import Protocol

from balise.api.relays import BundleAnswer, BundleError, Frame, FrameStatus, unpack
from balise.core.moments import Nanos
from balise.core.series.wire import TooLarge, WireError
from balise.front.answers import UNKNOWN, status_body
from balise.front.frames import METRICS, RELAYED, Caller, Sent, Taken
from balise.server.errors import Refused
from balise.server.keeping.memory import Short
from balise.server.keeping.space import Full
from balise.server.people.access import WAITING, Access, Principal
from balise.server.people.bearers import Bearers
from balise.server.receive.answers import answer_body
from balise.server.receive.bodies import Outcome
from balise.server.receive.logs import LogIntake
from balise.server.receive.metrics import MetricIntake
from balise.server.remote.speakers import Speakers
from balise.store.database import is_full
from balise.store.writer import Busy, Stopped

log = logging.getLogger(__name__)


class Denied(Exception):
    """A token may not deliver here."""

    def __init__(self, status: int, why: str) -> None:
        super().__init__(why)
        self.status = status


class TakesSyslog(Protocol):
    """Takes what a receiver of a relay took in: raises Refused and BundleError, and returns when it is durable."""

    async def relayed(self, relay: int, receiver: str, body: bytes, arrived: Nanos, delivery: str) -> None: ...


class Taking:
    """Takes deliveries; answers 200 only once everything taken is durable."""

    def __init__(
        self, *, access: Access, metrics: MetricIntake, logs: LogIntake, speakers: Speakers, syslog: TakesSyslog
    ) -> None:
        self._access = access
        self._bearers = Bearers(access)
        self._metrics = metrics
        self._logs = logs
        self._speakers = speakers
        self._syslog = syslog

    async def caller(self, path: str, token: str) -> Caller:
        """Whose a token is, and whether it may deliver at a path."""
        try:
            principal = await self._admit(path, token)
        except Denied as error:
            return Caller(error.status, str(error))
        except Exception as error:  # noqa: BLE001  it is logged, and the sender tries again
            return Caller(503, f"nobody can be let in at the moment ({_why_not(error, path)})")
        return Caller(200, f"{principal.role} {principal.name}")

    def begin(self, sent: Sent) -> asyncio.Future[None] | None:
        """Takes a delivery of which all is known, as most are: done when it is durable, or failed with what `refusal`
        tells. None for any other, which `take` takes; nothing is taken then."""
        if sent.path != METRICS or sent.as_json:
            return None
        principal = (self._access.remembered(sent.token) or (None,))[0]
        if principal is None or principal.role == WAITING or not principal.may_deliver:
            return None
        try:
            return self._metrics.take_known(principal, sent.body, behind=_behind(principal, sent))
        except Exception:  # noqa: BLE001  `take` fails as well, and says why
            return None

    async def take(self, sent: Sent) -> Taken:
        """Takes a delivery, and says what became of it."""
        try:
            principal = await self._admit(sent.path, sent.token)
            if sent.path == RELAYED:
                return Taken(200, await self._relayed(principal, sent), as_json=True)
            outcome = await self._take(principal, sent)
        except Exception as error:  # noqa: BLE001  the sender is told, and tries again where that may help
            return refusal(sent, error)
        noun = "points" if sent.path == METRICS else "records"
        return Taken(200, answer_body(outcome, sent.as_json, noun), sent.as_json)

    async def _take(self, principal: Principal, sent: Sent) -> Outcome:
        if sent.path == METRICS:
            behind = _behind(principal, sent)
            return await self._metrics.take(principal, sent.body, as_json=sent.as_json, behind=behind)
        return await self._logs.take(principal, sent.body, as_json=sent.as_json, delivery=sent.delivery)

    async def _admit(self, path: str, token: str) -> Principal:
        remembered = self._access.remembered(token)
        # Looking one up may take a disk's time, in which others come.
        principal = remembered[0] if remembered else await self._bearers.bearer(token)
        if principal is None:
            raise Denied(401, UNKNOWN)
        if principal.role == WAITING:
            raise Denied(403, "this machine waits to be let in: approve it in the console, Enrol, Waiting")
        if path == RELAYED:
            if principal.relay is None:
                raise Denied(403, "this path is for relays")
        elif not principal.may_deliver:
            raise Denied(403, "the token may not deliver: make one of role ingest")
        return principal

    async def _relayed(self, principal: Principal, sent: Sent) -> bytes:
        """Takes a bundle of what a relay took; answers what became of each frame."""
        assert principal.relay is not None
        try:
            frames = list(unpack(sent.body))
        except BundleError as error:
            raise WireError(str(error)) from None
        answers = await self.take_frames(principal.relay, frames, sent.behind or 0.0)
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


def refusal(sent: Sent, error: BaseException) -> Taken:
    """What is answered to a delivery that failed."""
    match error:
        case Denied():
            return _refused(sent, error.status, str(error))
        case TooLarge():
            return _refused(sent, 413, str(error))
        case WireError():
            return _refused(sent, 400, str(error))
        case Refused():
            # Too much of this sender's waits already.
            return _refused(sent, error.status, error.detail, retry=5)
        case Full() | Short():
            return _refused(sent, 503, str(error), retry=30)
        case asyncio.CancelledError():
            return _refused(sent, 503, "the console is ending: send it again", retry=5)
        case Busy() | Stopped():
            return _refused(sent, 503, "too much waits to be written: try again in a moment", retry=2)
    # It is logged, and the sender tries again.
    return _refused(sent, 503, f"cannot be kept at the moment ({_why_not(error, sent.path)})", retry=10)


def _behind(principal: Principal, sent: Sent) -> float | None:
    """By how many seconds the clock of a host that sends itself is behind ours."""
    return sent.behind if principal.host is not None else None


def _refused(sent: Sent, status: int, why: str, *, retry: int = 0) -> Taken:
    return Taken(status, status_body(why, sent.as_json), sent.as_json, retry)


def _why_not(error: BaseException, what: str) -> str:
    """Why something could not be kept; a full disk is not filled further with the story of it."""
    if is_full(error):
        return "the console's disk is full"
    log.error("%s", what, exc_info=error)
    return type(error).__name__
