"""Collecting every interval, and handing over to the spool."""

from __future__ import annotations

import logging
import os
import resource
import threading
import time
from collections.abc import Callable, Mapping
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

from balise import __version__
from balise.agent.deliver import Deliverer
from balise.agent.following import Following
from balise.agent.handover import Handover
from balise.agent.identity import AgentSettings, Identity
from balise.agent.inventory import EVERY, InventoryWork
from balise.agent.parts import Parts
from balise.agent.places import Places
from balise.agent.plan import PlanKeeper
from balise.agent.spool import Spool
from balise.client.trust import held_trust
from balise.collect.facts import read_facts
from balise.collect.follow import FileStatus
from balise.collect.otlp import logs_request, metrics_request
from balise.collect.ports import connected, listening
from balise.collect.position import Position
from balise.collect.readings import Kept, LogLine, Meaning, Reading
from balise.collect.work import Failures, Worker

if TYPE_CHECKING:
    from balise.agent.services import ServiceWork

log = logging.getLogger(__name__)
LISTENING_EVERY = 600.0
MOST_TALKS, MOST_TOLD = 200, 500
SERVICES_EVERY = 1.0
"""Seconds between looks at which services are due."""
_OWN = {
    "process.cpu.time": Meaning("s", "counter", "Processor time the agent used"),
    "process.cpu.utilization": Meaning("1", "gauge", "Cores the agent used since the last reading"),
    "process.memory.usage": Meaning("By", "gauge", "Memory the agent holds"),
    "balise.collector.duration": Meaning("s", "gauge", "Processor time a collector took for its last reading"),
    "balise.agent.spool.size": Meaning("By", "gauge", "What waits on disk to be delivered"),
}


class Agent:
    """The collectors of one host, its followed files, its spool and its deliverer."""

    def __init__(self, folder: Path, identity: Identity, settings: AgentSettings) -> None:
        self._folder = folder
        self._identity = identity
        self._settings = settings
        self._spool = Spool(folder / "spool", settings.spool_bytes)
        verify = held_trust(folder).context() if identity.console.startswith("https:") else False
        self.deliverer = Deliverer(identity, self._spool, verify=verify)
        self.keeper = PlanKeeper(folder, identity, self.deliverer, verify=verify)
        self._services: ServiceWork | None = None
        self._inventory = InventoryWork(
            lambda kept: self._keep(time.time(), [], {}, [], kept),
            lambda: self.keeper.plan.refresh,
            self._inventory_every,
        )
        self._listening: list[dict[str, Any]] = []
        self._listened_at = 0.0
        self._talks: dict[tuple[str, int], int] = {}
        self._talks_since = time.monotonic()
        self._places = Places(folder / "positions.json")
        self._handover = Handover(self._spool, self._places)
        self._parts = Parts(
            lambda: self.keeper.plan.collectors,
            lambda: self.every,
            lambda at, found, meanings: self._keep(at, found.readings, meanings, found.lines, found.kept),
            self._places.get,
        )
        self._failures = Failures("collect")
        self._workers = (
            Worker("deliver", self.deliverer.turn, 0.0),
            Worker("plan", self.keeper.turn, 0.0),
            Worker("inventory", self._inventory.look, 0.5),
        )
        self._following = Following(self._places.get)
        self._instance = os.urandom(8).hex()
        self._started = time.time()
        self._problems: dict[str, str] = {}
        self._lines_before: list[LogLine] = []
        self._cpu_before = _cpu_seconds()
        self._cpu_at = time.monotonic()
        self._share = 0.0
        self._stop = threading.Event()

    # --- running

    def run(self) -> None:
        """Collects and delivers until stopped."""
        for worker in self._workers:
            worker.start()
        self.deliverer.tell_facts(read_facts(self._identity.host))
        log.info(
            "collecting for host=%s every=%gs console=%s",
            self._identity.host,
            self.every,
            self._identity.console,
        )
        self._first_shares()
        due = time.monotonic()
        while not self._stop.is_set():
            self._collect()
            due += self.every
            late = time.monotonic() - due
            if late > self.every:
                # The machine slept or the clock of the process stood still: no burst of missed turns.
                due = time.monotonic()
            while not self._stop.wait(max(0.0, min(SERVICES_EVERY, due - time.monotonic()))):
                if time.monotonic() >= due:
                    break
                self._guarded(self._look_at_services)
        if self._services is not None:
            self._services.close()
        self._parts.close()
        self._inventory.stop()
        for worker in self._workers:
            worker.stop()
        self.keeper.close()
        self._workers[0].join(25)
        self.deliverer.close()

    def _collect(self) -> None:
        self._guarded(lambda: self.turn(time.time()))
        self._guarded(self._look_at_services)

    def _guarded(self, step: Callable[[], None]) -> None:
        """A step that fails is counted and told; collecting goes on."""
        try:
            step()
        except Exception as error:
            self._failures.note(error, time.time())
            log.exception("collecting failed")
        else:
            self._failures.passed()

    def _look_at_services(self) -> None:
        """Reads services that are due. Without any, nothing of what that takes is loaded."""
        wanted = self.keeper.plan.services
        if self._services is None:
            if not wanted:
                return
            from balise.agent.services import ServiceWork

            self._services = ServiceWork(self._keep, self._places, self._settings.allow_commands)
        self._services.look(wanted, time.time())

    def _keep(
        self,
        at: float,
        readings: list[Reading],
        meanings: Mapping[str, Meaning],
        lines: list[LogLine],
        kept: list[Kept],
        positions: Mapping[str, Position] | None = None,
    ) -> None:
        """Puts what was read of a service into the spool, as of its own time, with how far its files were read."""
        resource_ = {"host.name": self._identity.host}
        if readings:
            self._spool.put("metrics", metrics_request(resource_, readings, meanings, at=at, since=self._started))
        if lines or kept or positions:
            self._handover.put(logs_request(resource_, lines, kept), positions or {})

    def _first_shares(self) -> None:
        """Shares need two readings: takes one, and waits a moment, so that the first turn has them already."""
        self._lines_before = self._parts.first(time.time())
        self._stop.wait(min(1.0, self.every / 3))

    def stop(self) -> None:
        self._stop.set()

    @property
    def every(self) -> float:
        """Seconds between turns: as this host's own settings say, else as the plan does."""
        return self._settings.every or self.keeper.plan.every

    def turn(self, now: float) -> None:
        """One interval: reads what is due and puts it into the spool."""
        self._take_up_plan(now)
        found = self._parts.read(now)
        meanings = {**_OWN, **self._parts.meanings()}
        lines = [*self._lines_before, *found.lines, *self._following.lines(now)]
        readings = [*found.readings, *self._own_readings()]
        resource_ = {"host.name": self._identity.host}
        kept = [*found.kept, Kept(now, "balise.agent.report", self.report())]
        try:
            self._spool.put("metrics", metrics_request(resource_, readings, meanings, at=now, since=self._started))
            reached = self._following.positions() | self._parts.positions()
            self._handover.put(logs_request(resource_, lines, kept), reached)
            self._lines_before = []
            self._problems.pop("spool", None)
        except OSError as error:
            # A full disk: what was read of files and of the kernel is read again, the values of this turn are lost.
            self._following.forget()
            self._parts.read_again()
            self._note("spool", f"cannot keep what was collected: {error.strerror}")

    def _take_up_plan(self, now: float) -> None:
        """Follows the files of the plan and of this host's own settings, each from where it was left."""
        wanted = {file.path: file for file in self.keeper.plan.follow}
        wanted |= {file.path: file for file in self._settings.follow}
        self._following.take_up(list(wanted.values()), now)

    def _note(self, name: str, problem: str) -> None:
        if self._problems.get(name) != problem:
            log.warning("collector=%s %s", name, problem)
        self._problems[name] = problem

    # --- telling of itself

    def _own_readings(self) -> list[Reading]:
        used, moment = _cpu_seconds(), time.monotonic()
        self._share = (used - self._cpu_before) / max(moment - self._cpu_at, 0.001)
        self._cpu_before, self._cpu_at = used, moment
        own = {"process.executable.name": "balise-agent"}
        return [
            Reading("process.cpu.time", round(used, 3), own),
            Reading("process.cpu.utilization", round(self._share, 5), own),
            Reading("process.memory.usage", float(_memory_bytes()), own),
            Reading("balise.agent.spool.size", float(self._spool.bytes)),
            *(
                Reading("balise.collector.duration", round(c, 5), {"collector": n})
                for n, c in self._all_costs().items()
            ),
        ]

    def report(self) -> Mapping[str, Any]:
        """What the console shows of this agent."""
        problems = [f"{name}: {problem}" for name, problem in {**self._problems, **self._parts.problems()}.items()]
        problems += [f"inventory of {kind}: {problem}" for kind, problem in self._inventory.problems.items()]
        files, journal = self._all_files(), self._parts.journal()
        problems += [f"{s.path}: {s.detail}" for s in files if s.status not in ("following", "empty", "held-back")]
        problems += [f"{path}: {problem}" for path, problem in self._following.problems.items()]
        now, failures = time.time(), (self._failures, *(worker.failures for worker in self._workers))
        problems += [said for f in failures if (said := f.warning(now))]
        return {
            "version": __version__,
            "instance": self._instance,
            "every_seconds": self.every,
            "services": self._services.turns() if self._services is not None else {},
            "listening": self._what_listens(),
            "talks": self._whom_it_talks_to(),
            "plan": {"etag": self.keeper.plan.etag, "problems": self._plan_problems()},
            "cpu": round(self._share, 5),
            "memory": _memory_bytes(),
            "turn_cost": round(self._turn_cost(), 5),
            "collectors": {name: round(cost, 5) for name, cost in self._all_costs().items()},
            "follow": [asdict(status) for status in files[:MOST_TOLD]] + ([journal] if journal else []),
            "spool": {"parcels": len(self._spool), "bytes": self._spool.bytes, "dropped": self._spool.dropped},
            "refused": self.deliverer.refused,
            "problem": "; ".join(problems),
        }

    def _inventory_every(self) -> float | None:
        setting = self.keeper.plan.collectors.get("inventory")
        if setting is not None and not setting.on:
            return None
        return (setting.every if setting is not None else None) or EVERY

    def _all_costs(self) -> dict[str, float]:
        own = {
            **self._parts.costs(),
            **({"follow": self._following.cost} if self._following.cost else {}),
            **({"inventory": self._inventory.cost} if self._inventory.cost else {}),
        }
        return {**own, **(self._services.costs() if self._services is not None else {})}

    def _turn_cost(self) -> float:
        """Processor time for what is read, spread over the turns: what is read seldom costs each of them little."""
        rare = self._inventory_every() or EVERY
        cost = self._parts.turn_cost() + self._following.cost + self._inventory.cost * self.every / rare
        return cost + (self._services.turn_cost(self.every) if self._services is not None else 0.0)

    def _all_files(self) -> list[FileStatus]:
        services = self._services.files() if self._services is not None else []
        return [*self._following.statuses(), *(follower.status() for follower in services)]

    def _what_listens(self) -> list[dict[str, Any]]:
        """What accepts connections here; looked for now and then, because it means looking at every process."""
        now = time.monotonic()
        if now - self._listened_at > LISTENING_EVERY or not self._listened_at:
            self._listened_at = now
            self._listening = [one.model_dump() for one in listening()]
        return self._listening

    def _whom_it_talks_to(self) -> list[list[Any]]:
        """Other machines' ports that connections lead to, each with how often it was seen; counted anew every day."""
        if time.monotonic() - self._talks_since > 86_400:
            self._talks, self._talks_since = {}, time.monotonic()
        for place in connected({int(one["port"]) for one in self._listening}):
            if place in self._talks or len(self._talks) < MOST_TALKS:
                self._talks[place] = self._talks.get(place, 0) + 1
        order = sorted(self._talks.items(), key=lambda t: -t[1])
        return [[address, port, seen] for (address, port), seen in order[:MOST_TALKS]]

    def _plan_problems(self) -> list[str]:
        """What could not be done of the plan, each as a sentence."""
        plan = self.keeper.plan
        found = []
        if self._settings.every is not None and self._settings.every != plan.every:
            found.append(f"collect.every: this host's agent.toml says {self._settings.every:g} s instead")
        known = self._parts.names | {"inventory"}
        found += [f"collect.{name}: this agent has no such part" for name in plan.collectors if name not in known]
        found += [f"collect.{name}: {problem}" for name, problem in self._parts.problems().items()]
        planned = {f.path for f in plan.follow}
        states = [status for status in self._following.statuses() if status.path in planned]
        found += [f"follow {s.path}: {s.detail}" for s in states if s.status not in ("following", "empty")]
        return found


def _cpu_seconds() -> float:
    used = resource.getrusage(resource.RUSAGE_SELF)
    return used.ru_utime + used.ru_stime


def _memory_bytes() -> int:
    try:
        with open("/proc/self/statm", "rb") as file:
            return int(file.read().split()[1]) * os.sysconf("SC_PAGE_SIZE")
    except OSError:
        return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
