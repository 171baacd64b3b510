"""The relay: its buffer, its forwarder, what it reads for the console, and its report."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
import resource
import time
from pathlib import Path
from typing import Any

import httpx

from balise import __version__
from balise.api.hosts import Facts
from balise.api.relays import Frame, RelayReport, RelayWork, RemoteTurn
from balise.api.remote import RemoteTarget
from balise.api.services import ServiceTurn
from balise.client.trust import held_trust
from balise.collect.otlp import logs_request, metrics_request
from balise.collect.probes.schedule import Probing
from balise.collect.remote.link import AT_ONCE, Taken
from balise.collect.remote.rounds import Rounds, Turn
from balise.core.moments import nanos
from balise.listen.door import Door
from balise.relay.buffer import Buffer
from balise.relay.chore import Chore
from balise.relay.face import RelayFace
from balise.relay.forward import Forwarder
from balise.relay.identity import RelayIdentity
from balise.relay.less import Less, keep, kept
from balise.relay.outlet import Outlet
from balise.relay.positions import Positions
from balise.relay.receiving import Receiving
from balise.relay.results import Results
from balise.relay.senders import REFRESH_EVERY, Away, Senders
from balise.relay.summing import Summing
from balise.relay.trials import Trials

log = logging.getLogger(__name__)
MOST_REPORTED = 500
KEEP_EVERY = 30.0
"""Seconds between writes of probes' results to disk while the console is away."""
REPORT_EVERY = 5.0
WAIT = 30
AWAY_PAUSE = 5.0
MOST_PASSED_ON = 4000


class Relay:
    """All parts of a relay. `face` is what a server serves."""

    def __init__(
        self,
        folder: Path,
        identity: RelayIdentity,
        *,
        limit: int,
        side_by_side: int = 100,
        certificate: tuple[Path, Path] | None = None,
    ) -> None:
        self._identity = identity
        self._folder = folder
        headers = {"Authorization": f"Bearer {identity.token}"}
        verify = held_trust(folder).context() if identity.console.startswith("https:") else False
        self._http = httpx.AsyncClient(base_url=identity.console, headers=headers, timeout=20.0, verify=verify)
        # Each agent behind this relay may hold a long question for its plan: those have connections of their own.
        self._through = httpx.AsyncClient(
            base_url=identity.console, timeout=90.0, verify=verify, limits=httpx.Limits(max_connections=MOST_PASSED_ON)
        )
        self._limit = limit
        self._side_by_side = side_by_side
        self._hands = asyncio.Semaphore(AT_ONCE)
        self._trials = Trials(self._http, side_by_side=side_by_side, hands=self._hands)
        self._facts: dict[int, Facts] = {}
        self._turns: dict[int, RemoteTurn] = {}
        self._lines: dict[tuple[int, str], int] = {}
        self._told: dict[int, RemoteTurn] = {}
        self._service_turns: dict[int, ServiceTurn] = {}
        self._positions = Positions(folder / "positions.json")
        self._results = Results(folder / "probed.json")
        self._results_kept_at = 0.0
        self._receiving = Receiving(self._put, certificate)
        self._probing = Probing(lambda probe, result: self._results.add(probe.name, result))
        self._chores: list[Chore] = []
        self._tasks: list[asyncio.Task[None]] = []
        self._etag = ""
        self._started = time.time()
        self._buffer: Buffer | None = None
        self._outlet: Outlet | None = None
        self.senders = Senders(folder, self._http)

    def face(self, door: Door) -> RelayFace:
        """Made where the event loop runs, because the buffer belongs to it."""
        self._buffer = Buffer(self._folder / "buffer", self._limit)
        self._forwarder = Forwarder(self._buffer, self._http)
        self._rounds = Rounds(self._keep, self._heard_of, side_by_side=self._side_by_side, gate=self._hands)
        self._summing = Summing(self._folder / "sums.db", self._buffer, self._identity.relay)
        self._outlet = Outlet(self._buffer, self._summing)
        self._send_less(kept(self._folder / "less.json"))
        return RelayFace(self._outlet, self.senders, self._through, door, start=self.start, stop=self.stop)

    def _send_less(self, less: Less) -> None:
        """Sends on no more than plans say, from now on."""
        self._less = less
        self._summing.set_plans(less.sums)
        if self._outlet is not None:
            self._outlet.set_plans(less.thin)

    async def start(self) -> None:
        self._probing.start()
        self._chores = [
            Chore("forward", self._forwarder.turn),
            Chore("sums", self._summing.turn),
            Chore("report", self._report_turn),
            Chore("work", self._work_turn),
            Chore("senders", self._refresh_turn),
        ]
        self._tasks = [asyncio.create_task(chore.run()) for chore in self._chores]
        log.info("relay=%s site=%s console=%s", self._identity.relay, self._identity.site, self._identity.console)

    async def stop(self) -> None:
        for task in self._tasks:
            task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)
        await self._receiving.close()
        await self._rounds.close()
        self._probing.stop()
        self._keep_results()
        if self._buffer is not None:
            await self._summing.close()
            await self._buffer.close()
        await self._http.aclose()
        await self._through.aclose()

    # --- reading near hosts

    async def _work_turn(self) -> float:
        """Asks once what is to be read and tried; the answer waits until there is something new."""
        try:
            answer = await self._http.get(
                "/api/v1/relays/work",
                params={"wait": WAIT},
                headers={"If-None-Match": self._etag} if self._etag else {},
                timeout=WAIT + 20.0,
            )
        except httpx.HTTPError:
            # The console is away: what was to be read is read on.
            return AWAY_PAUSE
        if answer.status_code != 200:
            return 0.1 if answer.status_code == 304 else AWAY_PAUSE
        work = RelayWork.model_validate_json(answer.content)
        if self._outlet is not None:
            less = Less(thin=work.thin, sums=work.sums)
            if less != self._less:
                await asyncio.to_thread(keep, self._folder / "less.json", less)
                self._send_less(less)
        await self._rounds.set_targets([self._from_here_on(t) for t in work.targets])
        log.info("reading %d hosts, trying %d", len(work.targets), len(work.trials))
        self._trials.begin(work.trials)
        self._probing.set_probes(work.probes)
        await self._receiving.set_targets(work.receivers)
        self._etag = work.etag
        return 0.0

    def _from_here_on(self, target: RemoteTarget) -> RemoteTarget:
        own = self._positions.of(target.host_id)
        return target.model_copy(update={"positions": {**target.positions, **own}})

    async def _keep(self, target: RemoteTarget, now: float, taken: Taken) -> None:
        sender = f"service:{target.service.id}" if target.service else f"remote:{target.host_id}"
        resource_ = {"host.name": target.host}
        since = taken.facts.boot_time if taken.facts else self._started
        metrics = metrics_request(resource_, taken.readings, taken.meanings, at=now, since=since)
        frame = Frame(sender=sender, kind="metrics", delivery=f"{now:.6f}", at=nanos(now))
        await self._put(frame, metrics, target.host_id)
        if taken.lines or taken.kept:
            logs = logs_request(resource_, taken.lines, taken.kept)
            await self._put(Frame(sender=sender, kind="logs", delivery=f"{now:.6f}", at=nanos(now)), logs)
        if taken.facts:
            self._facts[target.host_id] = taken.facts
        if taken.positions:
            self._positions.keep(target.host_id, taken.positions)

    async def _put(self, frame: Frame, body: bytes, host: int | None = None) -> None:
        if self._outlet is not None:
            await self._outlet.put(frame, body, host)

    def _heard_of(self, turn: Turn) -> None:
        problem = turn.problem or next(
            (f"{f['path']}: {f['detail']}" for f in turn.files if f["status"] not in ("following", "empty")), None
        )
        if turn.target.service is not None:
            told = turn.service or ServiceTurn(problem=problem[:1000] if problem else None)
            self._service_turns[turn.target.service.id] = told
            return
        self._turns[turn.target.host_id] = RemoteTurn(
            problem=problem[:1000] if problem else None,
            cost=round(turn.cost, 3) if turn.cost is not None else None,
            host_key=turn.host_key if turn.host_key != turn.target.host_key else "",
            positions=self._positions.of(turn.target.host_id),
            files=self._counted(turn),
            facts=self._facts.get(turn.target.host_id),
        )

    def _counted(self, turn: Turn) -> list[dict[str, Any]]:
        """How each file of a host goes, with all lines since this relay began."""
        told = []
        for one in turn.files:
            key = (turn.target.host_id, str(one["path"]))
            self._lines[key] = self._lines.get(key, 0) + int(str(one.get("lines", 0)))
            told.append({**one, "total_lines": self._lines[key]})
        return told

    # --- telling of itself

    async def _report_turn(self) -> float:
        await self._receiving.look()
        await self.report()
        return REPORT_EVERY

    def _problem(self) -> str | None:
        """What stands in the way, and what failed of this relay's own work."""
        now = time.time()
        failures = [*(chore.failures for chore in self._chores), self._rounds.failures, self._probing.failures]
        told = [self._forwarder.problem, *(failure.warning(now) for failure in failures)]
        return "; ".join(said for said in told if said)[:1000] or None

    async def report(self) -> None:
        """Tells the console how this relay does; what did not get through is told next time."""
        changed = {host: turn for host, turn in self._turns.items() if self._told.get(host) != turn}
        buffer = self._buffer
        if buffer is None:
            return
        probed, mark = self._results.oldest(MOST_REPORTED)
        report = RelayReport(
            version=__version__,
            waiting=len(buffer),
            waiting_bytes=buffer.size,
            limit_bytes=buffer.limit,
            oldest_at=buffer.oldest_at,
            dropped=buffer.dropped,
            refused=self._forwarder.refused,
            forwarded=self._forwarder.forwarded,
            thinned=self._outlet.left_out if self._outlet is not None else 0,
            summed=self._summing.added,
            unsummed=self._summing.left_out,
            cpu=round(time.process_time() / max(1.0, time.time() - self._started), 4),
            memory=resident_bytes(),
            remote_hosts=len(self._rounds.hosts),
            problem=self._problem(),
            turns=changed,
            service_turns=dict(self._service_turns),
            receivers=self._receiving.turns(),
            probes=probed,
        )
        with contextlib.suppress(httpx.HTTPError):
            answer = await self._http.put(
                "/api/v1/relays/report",
                content=report.model_dump_json(),
                headers={"Content-Type": "application/json"},
            )
            if answer.status_code == 200:
                self._told.update(changed)
                self._service_turns.clear()
                self._results.arrived(mark)
                return
        if probed and not 0 <= time.monotonic() - self._results_kept_at < KEEP_EVERY:
            self._results_kept_at = time.monotonic()
            self._keep_results()

    def _keep_results(self) -> None:
        try:
            self._results.keep()
        except OSError as error:
            log.warning("the results of probes cannot be kept: %s", error.strerror)

    async def _refresh_turn(self) -> float:
        with contextlib.suppress(Away):
            await self.senders.refresh()
        return REFRESH_EVERY


def resident_bytes() -> int:
    """Memory this process holds."""
    try:
        with open("/proc/self/statm", "rb") as file:
            return int(file.read().split()[1]) * os.sysconf("SC_PAGE_SIZE")
    except OSError:
        return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
