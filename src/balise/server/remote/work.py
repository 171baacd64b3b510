"""Collecting from the console itself: which hosts, how they are reached, and the thread that reads them."""

from __future__ import annotations

import asyncio
import logging
import threading
import time
from collections.abc import Awaitable, Callable, Coroutine
from typing import Any, Protocol, TypeVar

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from balise.api.hosts import Facts
from balise.api.remote import PORTS, CollectionSettings, FilePlace, RemoteBody, RemoteTarget
from balise.api.remote import Remote as RemoteAnswer
from balise.api.services import ServiceTurn
from balise.api.spans import duration_text, seconds
from balise.collect.otlp import logs_request, metrics_request
from balise.collect.remote.hand import SshHand
from balise.collect.remote.link import AT_ONCE, Link, Taken
from balise.collect.remote.rounds import Rounds, Turn
from balise.collect.remote.trial import Trial, attempt
from balise.collect.work import Failures
from balise.server.errors import Refused, bad_field, unknown
from balise.server.hosts.directory import Directory, Known
from balise.server.keeping.settings import SettingsBook
from balise.server.people.access import Principal, audit
from balise.server.plans.book import FromAfar
from balise.server.remote.credentials import CredentialBook
from balise.store.state import tables
from balise.store.state.store import StateStore

log = logging.getLogger(__name__)
T = TypeVar("T")
KEPT_OWNERS = 20
SPARE_SECONDS = 20.0
REFRESH_PAUSE = 0.3
RETRY_PAUSE = 5.0
"""Seconds over which changes are gathered before they are taken up."""
CONSOLE = 0
"""Who has a remote host when no relay does."""
WORDS = {"ssh": "SSH", "snmp": "SNMP"}


def by_words(owner: str, protocol: str) -> str:
    """`the console over SSH`."""
    return f"{owner} over {WORDS[protocol]}"


class RemoteBook:
    """How hosts are reached over the network, and whose turn it is to read them."""

    def __init__(
        self, state: StateStore, directory: Directory, credentials: CredentialBook, settings: SettingsBook
    ) -> None:
        self._state = state
        self._directory = directory
        self._credentials = credentials
        self._settings = settings
        self.owner_of: Callable[[tables.Remote], int] = lambda _row: CONSOLE
        self.name_of: Callable[[int], str] = lambda _owner: "the console"
        self.plan_of: Callable[[Known], FromAfar] = lambda _host: FromAfar()
        """What the plans say of a host: the interval, and the files to follow."""

    def get(self, name: str) -> RemoteAnswer:
        """How a host is reached. Raises Refused 404 for one that has never been."""
        known = self._known(name)
        row = self._state.read(lambda s: s.get(tables.Remote, known.id))
        if row is None:
            raise Refused(404, f"{name!r} has no address to be collected from remotely: give it one first.")
        settings = self._settings.collection()
        return RemoteAnswer(
            protocol=row.protocol,  # type: ignore[arg-type]
            address=row.address,
            port=row.port,
            credential=row.credential,
            every=duration_text(row.every) if row.every else settings.every,
            time_limit=duration_text(row.time_limit) if row.time_limit else settings.time_limit,
            host_key=shown_key(row.host_key),
            site=row.site,
            owner=self.name_of(row.owner),
        )

    def put(self, name: str, body: RemoteBody, who: Principal) -> None:
        """From now on the host is collected remotely, by the console or its site's relays; its history stays."""
        known = self._known(name)
        held = self._state.read(lambda s: s.get(tables.Remote, known.id))
        protocol = body.protocol or (held.protocol if held else None)
        address = body.address or (held.address if held else None)
        credential = body.credential or (held.credential if held else None)
        if protocol is None or address is None or credential is None:
            missing = next(
                n for n, v in (("protocol", protocol), ("address", address), ("credential", credential)) if not v
            )
            raise bad_field(missing, f"{name!r} was never collected remotely: say its protocol, address and credential")
        # Whoever says where a secret is sent needs the right to it: only how often is no such matter.
        where = body.model_dump(exclude={"every", "time_limit"}, exclude_defaults=True)
        if held is None or known.mode != "remote" or where or "site" in body.model_fields_set:
            self._credentials.usable(credential, who, None, known.groups)
        before = f"{held.address}:{held.port}" if held else ""
        moved = held is None or (body.address or held.address, body.port or held.port) != (held.address, held.port)

        def write(session: Session) -> None:
            row = session.get(tables.Remote, known.id)
            if row is None:
                row = tables.Remote(host=known.id)
                session.add(row)
            row.protocol, row.address, row.credential = protocol, address, credential
            row.port = body.port or (held.port if held and protocol == held.protocol else PORTS[protocol])
            for key in ("every", "time_limit"):
                if getattr(body, key) is not None:
                    setattr(row, key, seconds(getattr(body, key)))
            if "site" in body.model_fields_set:
                row.site = body.site
            if body.accept_host_key or moved:
                row.host_key = ""
            set_mode(session, session.get_one(tables.Host, known.id), "remote", by_words("the console", protocol))
            hand_over(row, CONSOLE, time.time())
            audit(
                session,
                who.name,
                "host.remote",
                name,
                protocol=protocol,
                address=address,
                port=row.port,
                site=row.site,
                credential=credential,
                moved_from=before if moved else "",
                host_key="asked anew" if body.accept_host_key or moved else "as before",
            )

        self._state.write(write)
        self._directory.refresh(known.id)

    def _known(self, name: str) -> Known:
        known = self._directory.find(name)
        if known is None or known.retired:
            raise unknown("host", name)
        return known

    def settle_owners(self) -> list[int]:
        """Gives every remote host to whom it belongs now; answers the hosts that changed hands."""

        def write(session: Session) -> list[int]:
            moved = []
            rows = session.execute(
                select(tables.Remote, tables.Host).join(tables.Host).where(tables.Host.mode == "remote")
            )
            for row, host in rows:
                owner = self.owner_of(row)
                words = by_words(self.name_of(owner), row.protocol)
                if owner != row.owner:
                    hand_over(row, owner, time.time())
                if host.collected_by != words:
                    host.collected_by = words
                    moved.append(host.id)
            return moved

        moved = self._state.write(write)
        if moved:
            self._directory.refresh(*moved)
        return moved

    def targets(self, owner: int) -> list[RemoteTarget]:
        """All that this owner has to read. A host whose credential is lost is left out, and says so."""
        settings = self._settings.collection()

        def read(session: Session) -> list[tables.Remote]:
            query = (
                select(tables.Remote)
                .join(tables.Host)
                .where(tables.Host.mode == "remote", tables.Host.retired_at.is_(None), tables.Remote.owner == owner)
            )
            return list(session.scalars(query))

        found = []
        secrets: dict[str, Any] = {}
        for row in self._state.read(read):
            known = self._directory.get(row.host)
            if known is None:
                continue
            try:
                if row.credential not in secrets:
                    secrets[row.credential] = self._credentials.secret(row.credential)
                found.append(self._target(known, row, settings, secrets[row.credential]))
            except Refused as error:
                known.problem = error.detail
        return found

    def _target(self, known: Known, row: tables.Remote, settings: CollectionSettings, credential: Any) -> RemoteTarget:
        plan = self.plan_of(known)
        return RemoteTarget(
            host_id=known.id,
            host=known.name,
            protocol=row.protocol,  # type: ignore[arg-type]
            address=row.address,
            port=row.port,
            credential=credential,
            every=row.every or plan.every or seconds(settings.every),
            time_limit=row.time_limit or seconds(settings.time_limit),
            host_key=row.host_key,
            follow=plan.follow,
            off=plan.off,
            inventory_every=plan.inventory_every,
            refresh=plan.refresh,
            positions={path: FilePlace(*p) for path, p in row.positions.items()},
        )

    def users_of(self, credential: str) -> list[RemoteTarget]:
        """The hosts read with a credential, as targets, whoever reads them."""
        settings = self._settings.collection()
        query = (
            select(tables.Remote)
            .join(tables.Host)
            .where(tables.Remote.credential == credential, tables.Host.mode == "remote")
        )
        rows = self._state.read(lambda s: list(s.scalars(query)))
        secret = self._credentials.secret(credential) if rows else None
        return [self._target(known, row, settings, secret) for row in rows if (known := self._directory.get(row.host))]

    def by_ssh(self, known: Known) -> RemoteTarget | None:
        """How a host is read over SSH; None when it is not, or its credential is lost."""
        row = self._state.read(lambda s: s.get(tables.Remote, known.id))
        if row is None or row.protocol != "ssh" or known.mode != "remote":
            return None
        try:
            secret = self._credentials.secret(row.credential)
        except Refused:
            return None
        return self._target(known, row, self._settings.collection(), secret)

    def note(self, host: int, *, key: str = "", positions: dict[str, FilePlace] | None = None) -> None:
        """Keeps the key that a host showed first, and how far its files are read."""

        def write(session: Session) -> None:
            row = session.get(tables.Remote, host)
            if row is None:
                return
            if key and not row.host_key.startswith("ssh-"):
                row.host_key = key
            if positions:
                row.positions = {**row.positions, **{path: list(p) for path, p in positions.items()}}

        self._state.write(write)


def hand_over(row: tables.Remote | tables.Service, owner: int, now: float) -> None:
    """Writes down who has a host from now on."""
    row.owner = owner
    row.owners = [*(row.owners or []), [now, owner]][-KEPT_OWNERS:]


def owner_at(row: tables.Remote | tables.Service, at: float) -> int:
    """Who had a host at a moment, unix seconds; before all that is known, the first that is."""
    found = row.owner
    for since, owner in reversed(row.owners or []):
        found = int(owner)
        if since <= at:
            break
    return found


def set_mode(session: Session, host: tables.Host, mode: str, by: str) -> None:
    """Changes who collects a host. Who had it before may not deliver for it any more; all history stays."""
    host.mode, host.collected_by = mode, by
    if mode == "remote":
        session.execute(delete(tables.Token).where(tables.Token.host == host.id))


def shown_key(key: str) -> str:
    """The fingerprint of a pinned key."""
    from balise.collect.remote.ssh import fingerprint

    return fingerprint(key)


class Services(Protocol):
    """What has to be known of services to read them."""

    def targets(self, owner: int) -> list[RemoteTarget]: ...

    def note(self, number: int, turn: ServiceTurn) -> None: ...


Metrics = Callable[[Principal, bytes], Awaitable[Any]]


class RemoteWork:
    """A thread with an event loop of its own, on which the console's remote hosts are read and lists are tested."""

    def __init__(self, book: RemoteBook, directory: Directory, settings: SettingsBook) -> None:
        self._book = book
        self._directory = directory
        self._settings = settings
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._run, name="remote", daemon=True)
        self._rounds: Rounds | None = None
        self._gate = asyncio.Semaphore(AT_ONCE)
        self._spares: dict[tuple[str, int], tuple[RemoteTarget, Link]] = {}
        self._due = False
        self._refreshing = asyncio.Lock()
        self._started = time.time()
        self.failures = Failures("remote")
        self._main: asyncio.AbstractEventLoop | None = None
        self.take_metrics: Metrics | None = None
        self.take_logs: Metrics | None = None
        self.take_service: Metrics | None = None
        self.services: Services | None = None
        self.on_facts: Callable[[int, Facts], None] = lambda _host, _facts: None
        self._facts: dict[int, Facts] = {}

    def start(self, main: asyncio.AbstractEventLoop) -> None:
        self._main = main
        self._thread.start()
        self.refresh()

    def _run(self) -> None:
        asyncio.set_event_loop(self._loop)
        self._loop.run_forever()

    def hand(self, target: RemoteTarget) -> SshHand:
        """Somebody who runs commands on a host, over a connection of its own on this thread."""
        return SshHand(target, self._loop)

    def submit(self, work: Coroutine[Any, Any, T]) -> Any:
        """Runs a coroutine on this thread; answers a concurrent future."""
        return asyncio.run_coroutine_threadsafe(work, self._loop)

    def refresh(self) -> None:
        """Takes up what changed: hosts, addresses, credentials, settings, plans. Many changes are taken up together."""
        if self._thread.is_alive() and not self._due:
            self._due = True
            self.submit(self._refresh())

    async def _refresh(self) -> None:
        async with self._refreshing:
            await asyncio.sleep(REFRESH_PAUSE)
            self._due = False
            try:
                await self._take_up()
            except Exception as error:
                self.failures.note(error, time.time())
                log.exception("what is to be read could not be taken up")
                self._loop.call_later(RETRY_PAUSE, self.refresh)
            else:
                self.failures.passed()

    async def _take_up(self) -> None:
        targets = await asyncio.to_thread(self._book.targets, CONSOLE)
        if self.services is not None:
            targets += await asyncio.to_thread(self.services.targets, CONSOLE)
        side_by_side = self._settings.collection().side_by_side
        if self._rounds is not None and side_by_side != self._rounds.side_by_side:
            await self._rounds.close()
            self._rounds = None
        if self._rounds is None:
            self._rounds = Rounds(
                self._keep, self._heard_of, side_by_side=side_by_side, gate=self._gate, spare=self._spare_link
            )
        await self._rounds.set_targets(targets)

    async def _keep(self, target: RemoteTarget, now: float, taken: Taken) -> None:
        """Puts what was read into the stores by the way that an agent's deliveries take."""
        principal = Principal(f"remote {target.host}", "agent", target.host_id)
        known = self._directory.get(target.host_id)
        take = self.take_metrics
        if target.service is not None and known is not None and known.mode != "received":
            take = self.take_service
        resource = {"host.name": target.host}
        since = taken.facts.boot_time if taken.facts else self._started
        body = metrics_request(resource, taken.readings, taken.meanings, at=now, since=since)
        await self._on_main(take, principal, body)
        if taken.lines or taken.kept:
            await self._on_main(self.take_logs, principal, logs_request(resource, taken.lines, taken.kept))
        if taken.positions:
            await asyncio.to_thread(self._book.note, target.host_id, positions=taken.positions)
        if taken.facts and taken.facts != self._facts.get(target.host_id):
            self._facts[target.host_id] = taken.facts
            await asyncio.to_thread(self.on_facts, target.host_id, taken.facts)

    async def _on_main(self, take: Metrics | None, principal: Principal, body: bytes) -> None:
        if take is None or self._main is None:
            raise RuntimeError("remote collection has no stores to write to")

        async def work() -> None:
            await take(principal, body)

        await asyncio.wrap_future(asyncio.run_coroutine_threadsafe(work(), self._main))

    def _heard_of(self, turn: Turn) -> None:
        if turn.target.service is not None:
            if self.services is not None:
                self.services.note(turn.target.service.id, turn.service or ServiceTurn(problem=turn.problem))
            return
        known = self._directory.get(turn.target.host_id)
        if known is None:
            return
        note_turn(known, turn)
        if turn.host_key and turn.host_key != turn.target.host_key:
            self._loop.run_in_executor(None, lambda: self._book.note(known.id, key=turn.host_key))

    async def attempt(self, target: RemoteTarget, *, keep: bool = False) -> Trial:
        """Tries a host; with `keep` its connection stays for some seconds, to be read over when it is added."""
        return await attempt(target, time.time(), self._gate, self._keep_spare if keep else None)

    def _keep_spare(self, target: RemoteTarget, link: Link) -> None:
        held = self._spares.pop((target.address, target.port), None)
        self._spares[(target.address, target.port)] = (target, link)
        if held is not None:
            self._loop.create_task(held[1].close())
        self._loop.call_later(SPARE_SECONDS, lambda: self._loop.create_task(self._drop_spare(target, link)))

    async def _drop_spare(self, target: RemoteTarget, link: Link) -> None:
        held = self._spares.get((target.address, target.port))
        if held is not None and held[1] is link:
            del self._spares[(target.address, target.port)]
            await link.close()

    def _spare_link(self, target: RemoteTarget) -> Link | None:
        """The connection of the trial, if it was made with the same credential and showed the pinned key."""
        held = self._spares.get((target.address, target.port))
        if held is None or held[0].credential != target.credential or held[1].host_key != target.host_key:
            return None
        del self._spares[(target.address, target.port)]
        held[1].adopt(target)
        return held[1]

    def stop(self) -> None:
        if not self._thread.is_alive():
            return

        async def end() -> None:
            if self._rounds is not None:
                await self._rounds.close()
            self._loop.stop()

        self.submit(end())
        self._thread.join(10)


def note_turn(known: Known, turn: Turn) -> None:
    """Shows on a host how reading it goes."""
    known.problem = turn.problem or next(
        (f"{f['path']}: {f['detail']}" for f in turn.files if f["status"] not in ("following", "empty")), None
    )
    if turn.cost is not None:
        known.cost = round(turn.cost, 3)
