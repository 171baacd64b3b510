"""What relays do for the console: the hosts, services and probes that are theirs, trials, and what comes of it all."""

from __future__ import annotations

import asyncio
import hashlib
import itertools
import time
from collections import defaultdict
from collections.abc import Callable
from concurrent.futures import Future
from concurrent.futures import TimeoutError as Late
from typing import Protocol

from balise.api.probes import ProbeResult, ProbeTarget
from balise.api.relays import ReceiverTarget, RelayReport, RelayWork, TrialAnswer, TrialRequest
from balise.api.remote import RemoteTarget
from balise.api.secrets import REVEALED
from balise.api.services import ServiceTurn
from balise.api.sources import PathTried
from balise.collect.remote.trial import Trial
from balise.server.hosts.directory import Directory
from balise.server.hosts.reports import HostReports
from balise.server.plans.held import HeldPlans
from balise.server.remote.book import RemoteBook
from balise.server.remote.relays import RelayBook
from balise.server.signals import Signal
from balise.store.state import tables
from balise.store.state.store import StateStore

TRIAL_GRACE = 15.0
"""Seconds that a trial may take beyond its own time limit, on the way to the relay and back."""


class ReadServices(Protocol):
    """The services that relays read."""

    def targets(self, owner: int) -> list[RemoteTarget]: ...

    def settle_owners(self) -> bool: ...

    def note(self, number: int, turn: ServiceTurn) -> None: ...


class MadeProbes(Protocol):
    """The probes that relays make."""

    def targets(self, place: str) -> list[ProbeTarget]: ...


class HasReceivers(Protocol):
    """The receivers that a relay is to run."""

    def of_relay(self, name: str) -> list[ReceiverTarget]: ...


class RelayDesk:
    """Hands out work to relays, and takes in what came of it."""

    def __init__(
        self,
        *,
        state: StateStore,
        directory: Directory,
        relays: RelayBook,
        remote: RemoteBook,
        services: ReadServices,
        probes: MadeProbes,
        probed: Callable[[str, str, ProbeResult], None],
        reports: HostReports,
        receivers: HasReceivers,
        plans: HeldPlans,
    ) -> None:
        self._plans = plans
        self._receivers = receivers
        self._state = state
        self._directory = directory
        self._relays = relays
        self._remote = remote
        self._services = services
        self._probes = probes
        self._probed = probed
        self._reports = reports
        self._asked: defaultdict[int, dict[int, TrialRequest]] = defaultdict(dict)
        """Trials under way, by relay and number."""
        self._trials: dict[int, asyncio.Future[Trial]] = {}
        self._paths: dict[int, Future[PathTried]] = {}
        self._numbers = itertools.count(1)
        self._changed: asyncio.Event | None = None
        self._stopped = False
        self._loop: asyncio.AbstractEventLoop | None = None
        self._ever = True
        """Whether there may be hosts that a relay had: without any, everything is the console's."""
        self.moved = Signal[None]("hosts moved")
        """Hosts or services are read by another from now on."""

    def start(self, loop: asyncio.AbstractEventLoop) -> None:
        self._loop = loop
        self._changed = asyncio.Event()
        self._relays.begin()
        self.settle()

    def settle(self) -> None:
        """Gives every remote host to whom it belongs now, and tells those that wait for work."""
        there = bool(self._relays.names())
        if not there and not self._ever:
            return
        self._ever = there
        moved = bool(self._remote.settle_owners())
        if self._services.settle_owners() or moved:
            self.moved.tell(None)
        self.wake()

    def look(self) -> None:
        """Notices relays that are gone, so that others take over; keeps when they were heard."""
        self.settle()
        self._relays.write_seen()

    def stop(self) -> None:
        """Lets go of all that wait, for good."""
        self._stopped = True
        self.wake()

    def wake(self) -> None:
        """What relays have to do may be another."""
        if self._loop is not None and self._changed is not None and not self._loop.is_closed():
            changed, self._changed = self._changed, asyncio.Event()
            self._loop.call_soon_threadsafe(changed.set)

    def work(self, relay: int) -> RelayWork:
        targets = self._remote.targets(relay) + self._services.targets(relay)
        trials = list(self._asked[relay].values())
        name = self._relays.by_number(relay).name
        probes, receivers = self._probes.targets(name), self._receivers.of_relay(name)
        without = {"positions": True, "service": {"kit"}}
        plain = [t.model_dump_json(exclude=without, context=REVEALED) for t in targets]  # type: ignore[arg-type]
        asked = [p.model_dump_json(context=REVEALED) for p in probes]
        listened = [receiver.model_dump_json() for receiver in receivers]
        hosts = [*self._relays.behind(relay), *(t.host_id for t in targets)]
        thin, sums = self._plans.thinned(hosts), self._plans.summed(hosts)
        less = [str(sorted(thin.items())), *(one.model_dump_json() for one in sums)]
        text = "\n".join([*plain, *(str(t.id) for t in trials), *asked, *listened, *less])
        return RelayWork(
            etag=hashlib.sha256(text.encode()).hexdigest()[:16],
            targets=targets,
            trials=trials,
            probes=probes,
            receivers=receivers,
            thin=thin,
            sums=sums,
        )

    async def wait_for_work(self, relay: int, etag: str, seconds: float) -> RelayWork | None:
        """The work, as soon as it is other than what the relay has; None when that does not come in time."""
        end = time.monotonic() + seconds
        while True:
            changed = self._changed
            work = await asyncio.to_thread(self.work, relay)
            if work.etag != etag or changed is None:
                return work
            left = end - time.monotonic()
            if left <= 0 or self._stopped:
                return None
            try:
                await asyncio.wait_for(changed.wait(), left)
            except TimeoutError:
                return None

    # --- trials

    async def attempt(self, site: str, target: RemoteTarget) -> Trial:
        """Has a relay of a site try to read a host once. Never raises."""
        alive = self._relays.at_site(site)
        if not alive:
            return Trial("failed", f"no relay of {site!r} is alive to try it: start one, or leave the site out")
        relay = min(alive, key=lambda r: len(self._asked[r.id]))
        number = next(self._numbers)
        future: asyncio.Future[Trial] = asyncio.get_running_loop().create_future()
        self._trials[number] = future
        self._asked[relay.id][number] = TrialRequest(id=number, target=target)
        self.wake()
        try:
            return await asyncio.wait_for(future, target.time_limit + TRIAL_GRACE)
        except TimeoutError:
            return Trial(
                "timed-out", f"the relay {relay.name} did not say within {target.time_limit:g} s what came of it"
            )
        finally:
            self._asked[relay.id].pop(number, None)
            self._trials.pop(number, None)

    def try_path(self, relay: int, target: RemoteTarget, path: str, seconds: float) -> PathTried | None:
        """What a relay finds at a path on a host that it reads; None when it does not answer in time."""
        number = next(self._numbers)
        future: Future[PathTried] = Future()
        self._paths[number] = future
        self._asked[relay][number] = TrialRequest(id=number, target=target, path=path)
        self.wake()
        try:
            return future.result(seconds)
        except Late:
            return None
        finally:
            self._asked[relay].pop(number, None)
            self._paths.pop(number, None)

    def tried(self, relay: int, number: int, answer: TrialAnswer) -> None:
        asked = self._paths.get(number)
        if asked is not None and number in self._asked[relay] and answer.tried is not None and not asked.done():
            asked.set_result(answer.tried)
            return
        future = self._trials.get(number)
        if number not in self._asked[relay] or future is None:
            return
        trial = Trial(answer.result, answer.message, answer.facts, answer.host_key)
        future.get_loop().call_soon_threadsafe(lambda: None if future.done() else future.set_result(trial))

    # --- what they tell

    def report(self, relay: int, report: RelayReport) -> None:
        was_gone = self._relays.noted(relay, report)
        for number, turn in report.turns.items():
            host = self._directory.get(number)
            row = self._state.read(lambda s, number=number: s.get(tables.Remote, number))  # type: ignore[misc]
            if host is None or row is None or row.owner != relay:
                continue
            host.problem, host.cost = turn.problem, turn.cost
            self._reports.note_files(number, turn.files)
            if turn.host_key or turn.positions:
                self._remote.note(number, key=turn.host_key, positions=turn.positions)
            if turn.facts and turn.facts.model_dump() != host.facts:
                self._reports.set_facts(number, turn.facts)
        for number, read in report.service_turns.items():
            service = self._state.read(lambda s, number=number: s.get(tables.Service, number))  # type: ignore[misc]
            if service is not None and service.owner == relay:
                self._services.note(number, read)
        name = self._relays.by_number(relay).name
        for probe, result in report.probes:
            self._probed(name, probe, result)
        if was_gone:
            self.settle()
