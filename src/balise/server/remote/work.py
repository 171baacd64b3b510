"""Reading hosts and services from the console itself."""

from __future__ import annotations

import asyncio
import logging
import time
from collections.abc import Coroutine
from typing import Any, Protocol

from balise.api.hosts import NOBODYS, Facts
from balise.api.remote import RemoteTarget
from balise.api.services import ServiceTurn
from balise.collect.otlp import logs_request, metrics_request
from balise.collect.remote.link import AT_ONCE, Link, Taken
from balise.collect.remote.rounds import Rounds, Turn
from balise.collect.remote.trial import Trial, attempt
from balise.collect.work import Failures
from balise.server.hosts.directory import Directory, Known
from balise.server.hosts.reports import HostReports
from balise.server.keeping.settings import SettingsBook
from balise.server.people.access import Principal
from balise.server.remote.book import RemoteBook
from balise.server.remote.owners import CONSOLE
from balise.server.remote.thread import RemoteThread

log = logging.getLogger(__name__)
SPARE_SECONDS = 20.0
REFRESH_PAUSE = 0.3
RETRY_PAUSE = 5.0
"""Seconds over which changes are gathered before they are taken up."""


class Services(Protocol):
    """What has to be known of services to read them."""

    def targets(self, owner: int) -> list[RemoteTarget]: ...

    def note(self, number: int, turn: ServiceTurn) -> None: ...


class Intakes(Protocol):
    """Where what was read goes, as if it had come over OTLP."""

    async def of_host(self, principal: Principal, metrics: bytes) -> None:
        """What was read of a host, which proves that it is alive."""

    async def of_service(self, principal: Principal, metrics: bytes) -> None:
        """What was read of a service by somebody else than its host."""

    async def logs(self, principal: Principal, logs: bytes) -> None: ...


class RemoteWork:
    """Reads the remote hosts and services that are the console's, on a thread of its own, and tries those of lists."""

    def __init__(
        self,
        *,
        thread: RemoteThread,
        remote: RemoteBook,
        directory: Directory,
        settings: SettingsBook,
        services: Services,
        reports: HostReports,
        intakes: Intakes,
    ) -> None:
        self._thread = thread
        self._remote = remote
        self._directory = directory
        self._settings = settings
        self._services = services
        self._reports = reports
        self._intakes = intakes
        self._rounds: Rounds | None = None
        self._gate = asyncio.Semaphore(AT_ONCE)
        self._spares: dict[tuple[str, int], tuple[RemoteTarget, Link]] = {}
        self._due = False
        self._refreshing = asyncio.Lock()
        self._started = time.time()
        self.failures = Failures("remote")
        self._main: asyncio.AbstractEventLoop | None = None
        self._facts: dict[int, Facts] = {}

    def start(self, main: asyncio.AbstractEventLoop) -> None:
        """Begins; `main` is the loop on which what was read is taken in."""
        self._main = main
        self._thread.start()
        self.refresh()

    def refresh(self) -> None:
        """Takes up what changed: hosts, addresses, credentials, settings, plans. Many changes are taken up together."""
        if self._thread.runs and not self._due:
            self._due = True
            self._thread.submit(self._refresh())

    async def _refresh(self) -> None:
        async with self._refreshing:
            await asyncio.sleep(REFRESH_PAUSE)
            self._due = False
            try:
                await self._take_up()
            except Exception as error:
                self.failures.note(error, time.time())
                log.exception("what is to be read could not be taken up")
                self._thread.loop.call_later(RETRY_PAUSE, self.refresh)
            else:
                self.failures.passed()

    async def _take_up(self) -> None:
        targets = await asyncio.to_thread(self._remote.targets, CONSOLE)
        targets += await asyncio.to_thread(self._services.targets, CONSOLE)
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
        by_another = target.service is not None and known is not None and known.mode not in NOBODYS
        take = self._intakes.of_service if by_another else self._intakes.of_host
        resource = {"host.name": target.host}
        since = taken.facts.boot_time if taken.facts else self._started
        body = metrics_request(resource, taken.readings, taken.meanings, at=now, since=since)
        await self._on_main(take(principal, body))
        if taken.lines or taken.kept:
            await self._on_main(self._intakes.logs(principal, logs_request(resource, taken.lines, taken.kept)))
        if target.service is None:
            self._reports.note_files(target.host_id, taken.files)
        if taken.positions:
            await asyncio.to_thread(self._remote.note, target.host_id, positions=taken.positions)
        if taken.facts and taken.facts != self._facts.get(target.host_id):
            self._facts[target.host_id] = taken.facts
            await asyncio.to_thread(self._reports.set_facts, target.host_id, taken.facts)

    async def _on_main(self, taking: Coroutine[Any, Any, None]) -> None:
        if self._main is None:
            raise RuntimeError("remote collection was not started")
        await asyncio.wrap_future(asyncio.run_coroutine_threadsafe(taking, self._main))

    def _heard_of(self, turn: Turn) -> None:
        if turn.target.service is not None:
            self._services.note(turn.target.service.id, turn.service or ServiceTurn(problem=turn.problem))
            return
        known = self._directory.get(turn.target.host_id)
        if known is None:
            return
        note_turn(known, turn)
        if turn.host_key and turn.host_key != turn.target.host_key:
            self._thread.loop.run_in_executor(None, lambda: self._remote.note(known.id, key=turn.host_key))

    async def attempt(self, target: RemoteTarget, *, keep: bool = False) -> Trial:
        """Tries a host; with `keep` its connection stays for some seconds, to be read over when it is added."""
        return await attempt(target, time.time(), self._gate, self._keep_spare if keep else None)

    def _keep_spare(self, target: RemoteTarget, link: Link) -> None:
        held = self._spares.pop((target.address, target.port), None)
        self._spares[(target.address, target.port)] = (target, link)
        if held is not None:
            self._thread.loop.create_task(held[1].close())
        self._thread.loop.call_later(
            SPARE_SECONDS, lambda: self._thread.loop.create_task(self._drop_spare(target, link))
        )

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
        async def end() -> None:
            if self._rounds is not None:
                await self._rounds.close()

        self._thread.stop(end)


def note_turn(known: Known, turn: Turn) -> None:
    """Shows on a host how reading it goes."""
    known.problem = turn.problem or next(
        (f"{f['path']}: {f['detail']}" for f in turn.files if f["status"] not in ("following", "empty")), None
    )
    if turn.cost is not None:
        known.cost = round(turn.cost, 3)
