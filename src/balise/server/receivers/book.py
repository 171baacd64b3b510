"""Which receivers there are, and those of the console at work."""

from __future__ import annotations

import asyncio
import errno
import hashlib
import logging
import socket
import ssl
import threading
from collections.abc import Callable, Coroutine, Sequence
from typing import Any, TypeVar
from zoneinfo import ZoneInfo

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from balise.api.receivers import CONSOLE, ReceiverBody, ReceiverSender, place_of
from balise.api.receivers import Receiver as ReceiverAnswer
from balise.api.relays import ReceiverTarget, unpack_messages
from balise.api.spans import rfc3339
from balise.core.events.syslog_reader import SyslogReader
from balise.core.localtime import of_zone
from balise.core.moments import Nanos
from balise.listen.syslog.receiver import Receiver, bind
from balise.listen.syslog.tls import receiver_context, trust_clients_of
from balise.server.errors import Refused, bad_field, unknown
from balise.server.people.access import audit
from balise.server.receive.bodies import Room
from balise.server.receivers.senders import SenderBook
from balise.server.remote.relays import RelayBook
from balise.server.signals import Signal
from balise.server.tls.certificates import ServerCertificate
from balise.store.events.store import Delivery, EventStore
from balise.store.state import tables
from balise.store.state.secrets import digest
from balise.store.state.store import StateStore
from balise.store.writer import Busy, Stopped

MOST_RECEIVERS, MOST_SENDERS_SHOWN = 50, 100
WAIT_FOR_ROOM, STOP_SECONDS = 0.2, 10.0
R = TypeVar("R")
log = logging.getLogger(__name__)


class ReceiverBook:
    """All receivers. Those of the console take in on a thread of their own, so that no flood is felt elsewhere."""

    def __init__(
        self,
        *,
        state: StateStore,
        events: EventStore,
        senders: SenderBook,
        relays: RelayBook,
        room: Room,
        certificate: Callable[[], ServerCertificate],
    ) -> None:
        self._state = state
        self._events = events
        self._senders = senders
        self._relays = relays
        self._room = room
        self._certificate = certificate
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, name="receivers", daemon=True)
        self._lock = threading.Lock()
        self._running: dict[str, Receiver] = {}
        self._readers: dict[str, SyslogReader] = {}
        self._problems: dict[str, str] = {}
        self.changed = Signal[None]("receivers")
        """There is another receiver, or one less, or one is another."""

    # --- beginning and ending

    def start(self) -> None:
        """Begins all of them; does nothing more when they have begun."""
        if not self._thread.is_alive():
            self._thread.start()
        self.look()

    def look(self) -> None:
        """Begins receivers that are wanted and do not run, as far as that is possible now."""
        with self._lock:
            for row in self._rows():
                body = ReceiverBody.model_validate(row.document)
                if body.at == CONSOLE and row.name not in self._running:
                    try:
                        self._begin(row.name, body)
                    except Refused as problem:
                        self._problems[row.name] = problem.detail

    def stop(self) -> None:
        """Ends all of them; what was read is written first."""
        if not self._thread.is_alive():
            return
        with self._lock:
            for name in list(self._running):
                self._end(name)
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(STOP_SECONDS)

    def _begin(self, name: str, body: ReceiverBody) -> None:
        """Raises Refused when it cannot listen, or its certificates cannot be used."""
        context = self._context(body) if body.transport == "tls" else None
        bound = _bound(body)
        self._readers[name] = _reader(body)
        receiver = Receiver(name, body.transport, self._take, context=context)
        self._do(receiver.start(bound))
        self._running[name] = receiver
        self._problems.pop(name, None)

    def _end(self, name: str) -> None:
        receiver = self._running.pop(name, None)
        if receiver is not None:
            self._do(receiver.stop())

    def _do(self, work: Coroutine[Any, Any, R]) -> R:
        return asyncio.run_coroutine_threadsafe(work, self._loop).result(STOP_SECONDS)

    def _context(self, body: ReceiverBody) -> ssl.SSLContext:
        own = self._certificate()
        try:
            return receiver_context(own.chain, own.key, body.client_ca)
        except ValueError as problem:
            raise bad_field("client_ca", str(problem)) from None

    async def _take(self, receiver: str, address: str, messages: Sequence[bytes], arrived: Nanos) -> None:
        """Done when the events are durable: until then nothing more is read of their sender."""
        await self._keep_all(receiver, address, messages, arrived, None)

    async def relayed(self, relay: int, receiver: str, body: bytes, arrived: Nanos, delivery: str) -> None:
        """What a relay took in, each delivery once.

        Raises:
            Refused: 403 when the relay has no such receiver.
            BundleError: the body cannot be read.
        """
        known = self._relays.find(relay)
        row = await asyncio.to_thread(self._state.read, lambda s: s.get(tables.Receiver, receiver))
        if known is None or row is None or row.document.get("at") != known.name:
            raise Refused(403, f"this relay has no receiver {receiver!r}")
        if receiver not in self._readers:
            self._readers[receiver] = _reader(ReceiverBody.model_validate(row.document))
        address, messages = unpack_messages(body)
        whose = f"{known.name} {receiver} {delivery} {hashlib.sha256(body).hexdigest()}"
        await self._keep_all(receiver, address, messages, arrived, digest(whose).encode()[:32])

    async def _keep_all(
        self, receiver: str, address: str, messages: Sequence[bytes], arrived: Nanos, name: bytes | None
    ) -> None:
        read = self._readers[receiver].read
        events = [read(message.decode("utf-8", "replace"), arrived) for message in messages]
        named = self._senders.named(receiver, address, events)
        if self._senders.came:
            # Who came is known before anything of theirs counts as heard.
            await asyncio.to_thread(self._senders.write)
        while named:
            try:
                self._room.on_disk()
                await self._events.accept(Delivery(named, [], name))
                return
            except Stopped:
                return
            except Busy:
                await asyncio.sleep(WAIT_FOR_ROOM)

    # --- which there are

    def _rows(self) -> list[tables.Receiver]:
        return self._state.read(lambda s: list(s.scalars(select(tables.Receiver).order_by(tables.Receiver.name))))

    def all(self) -> list[ReceiverAnswer]:
        return [self._answer(row) for row in self._rows()]

    def get(self, name: str) -> ReceiverAnswer:
        return self._answer(self._find(name))

    def _find(self, name: str) -> tables.Receiver:
        row = self._state.read(lambda s: s.get(tables.Receiver, name))
        if row is None:
            raise unknown("receiver", name)
        return row

    def put(self, name: str, body: ReceiverBody, who: str) -> ReceiverAnswer:
        """Makes or changes a receiver, and begins it.

        Raises:
            Refused: 409 when the port is in use or there are too many, 422 naming the field that cannot be used.
        """
        if body.at != CONSOLE and body.at not in self._relays.names():
            raise bad_field("at", f"there is no relay {body.at!r}: write console, or the name of a relay")
        if body.at != CONSOLE and body.client_ca is not None:
            try:
                trust_clients_of(ssl.create_default_context(ssl.Purpose.CLIENT_AUTH), body.client_ca)
            except ValueError as problem:
                raise bad_field("client_ca", str(problem)) from None
        with self._lock:
            before = self._state.read(lambda s: s.get(tables.Receiver, name))
            if before is None and len(self._rows()) >= MOST_RECEIVERS:
                raise Refused(409, f"There are {MOST_RECEIVERS} receivers already: delete some first.")
            if before is not None and ReceiverBody.model_validate(before.document) == body and name in self._running:
                return self._answer(before)
            self._end(name)
            try:
                if body.at == CONSOLE:
                    self._begin(name, body)
            except Refused:
                self._again(name, before)
                raise
            self._state.write(lambda s: self._keep(s, name, body, who))
            self._readers[name] = _reader(body)
        self.changed.tell(None)
        return self.get(name)

    def _again(self, name: str, before: tables.Receiver | None) -> None:
        """Goes on with a receiver as it was."""
        if before is not None and (body := ReceiverBody.model_validate(before.document)).at == CONSOLE:
            try:
                self._begin(name, body)
            except Refused as problem:
                self._problems[name] = problem.detail

    @staticmethod
    def _keep(session: Session, name: str, body: ReceiverBody, who: str) -> None:
        row = session.get(tables.Receiver, name) or tables.Receiver(name=name)
        row.document = body.model_dump()
        session.add(row)
        audit(session, who, "receiver.put", name, listen=body.listen, transport=body.transport, at=body.at)

    def delete(self, name: str, who: str) -> None:
        """Ends a receiver; what it took in stays."""
        with self._lock:
            self._find(name)

            def write(session: Session) -> None:
                session.execute(delete(tables.Receiver).where(tables.Receiver.name == name))
                audit(session, who, "receiver.delete", name)

            self._state.write(write)
            self._end(name)
            self._problems.pop(name, None)
        self.changed.tell(None)

    def of_relay(self, name: str) -> list[ReceiverTarget]:
        """What a relay is to take in."""
        found = [(row.name, ReceiverBody.model_validate(row.document)) for row in self._rows()]
        return [
            ReceiverTarget(name=receiver, transport=body.transport, listen=body.listen, client_ca=body.client_ca)
            for receiver, body in found
            if body.at == name
        ]

    def count(self) -> int:
        return self._state.read(lambda s: s.scalar(select(func.count(tables.Receiver.name)))) or 0

    def running(self) -> list[Receiver]:
        return list(self._running.values())

    def _answer(self, row: tables.Receiver) -> ReceiverAnswer:
        body = ReceiverBody.model_validate(row.document)
        if body.at != CONSOLE:
            return self._answer_of_relay(row.name, body)
        running = self._running.get(row.name)
        senders = sorted(running.senders, key=lambda s: -s.last_at) if running else []
        state = "listening" if running else "failed" if row.name in self._problems else "waiting"
        return ReceiverAnswer(
            **body.model_dump(),
            name=row.name,
            state=state,  # type: ignore[arg-type]
            message=self._problems.get(row.name, ""),
            listening=running is not None,
            received=running.received if running else 0,
            dropped=running.dropped if running else 0,
            senders=[
                ReceiverSender(
                    address=one.address,
                    received=one.received,
                    dropped=one.dropped,
                    last_at=rfc3339(one.last_at) if one.last_at else None,
                    held_back_at=rfc3339(one.held_back_at) if one.held_back_at else None,
                )
                for one in senders[:MOST_SENDERS_SHOWN]
            ],
        )

    def _answer_of_relay(self, name: str, body: ReceiverBody) -> ReceiverAnswer:
        """A receiver as its relay told of it last."""
        told = next((r for r in self._relays.receivers(body.at) if r.name == name), None)
        state = "waiting" if told is None else "listening" if told.listening else "failed"
        return ReceiverAnswer(
            **body.model_dump(),
            name=name,
            state=state,  # type: ignore[arg-type]
            message=told.problem if told is not None else f"the relay {body.at} has not told of it yet",
            listening=told is not None and told.listening,
            received=told.received if told is not None else 0,
            dropped=told.dropped if told is not None else 0,
            senders=[],
        )

    def warnings(self, _now: float) -> list[str]:
        return [f"the receiver {name} does not listen: {problem}" for name, problem in self._problems.items()]


def _reader(body: ReceiverBody) -> SyslogReader:
    return SyslogReader(of_zone(ZoneInfo(body.zone)))


def _bound(body: ReceiverBody) -> socket.socket:
    """Raises Refused: 409 when the port is in use, 422 when the address is not of this machine or not allowed."""
    place = place_of(body.listen)
    try:
        return bind(place, body.transport)
    except OSError as error:
        if error.errno == errno.EADDRINUSE:
            kind = "UDP" if body.transport == "udp" else "TCP"
            raise Refused(
                409, f"Port {place[1]} ({kind}) of {place[0]} is in use by something else: take another."
            ) from None
        if error.errno in (errno.EACCES, errno.EPERM):
            detail = f"the console may not listen on port {place[1]}: take one from 1024 up, or let it use lower ones"
            raise bad_field("listen", detail) from None
        raise bad_field("listen", f"the console cannot listen there: {error.strerror or error}") from None
