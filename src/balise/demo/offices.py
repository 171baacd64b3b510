"""The ticket offices, alive: Windows-like stand-ins, read by the collectors that would read such a system."""

from __future__ import annotations

import asyncio
import time

import numpy as np

from balise.collect.otlp import logs_request, metrics_request
from balise.collect.readings import Collector, Meaning, Sorted
from balise.collect.windows.collectors import Channels, windows_collectors
from balise.collect.windows.office import Busyness, TicketOffice
from balise.demo.fleet import OFFICE, Ship
from balise.demo.model import Model
from balise.server.parts import Parts
from balise.server.people.access import Principal

WAIT = 10.0


class Offices:
    """Reads each ticket office of the fleet and delivers what it tells as an agent would."""

    def __init__(self, console: Parts, ships: tuple[Ship, ...], model: Model) -> None:
        self._console = console
        self._model = model
        self._started = time.time()
        self._read: list[tuple[Principal, str, list[Collector]]] = []
        for ship in ships:
            known = console.directory.find(ship.name)
            if ship.role == OFFICE and known is not None:
                office = TicketOffice(
                    ship.name,
                    cores=ship.cores,
                    memory=ship.memory,
                    volume=ship.volumes[0].size,
                    started=time.time() - self._found(ship, time.time())["system.uptime"],
                    busy=lambda at, ship=ship: self._busy(ship, at),  # type: ignore[misc]
                    clock=time.time,
                )
                principal = Principal(f"agent {ship.name}", "agent", known.id)
                self._read.append((principal, ship.name, windows_collectors(office)))

    def _busy(self, ship: Ship, at: float) -> Busyness:
        """The model's view of an office, as rates and shares."""
        found = self._found(ship, at)
        return Busyness(
            processors=found["balise.cpu.busy"],
            memory=found["system.memory.utilization used"],
            received=found["system.network.io receive"],
            sent=found["system.network.io transmit"],
            read=found["system.disk.io read"],
            written=found["system.disk.io write"],
            disk=found["system.disk.io_time"],
            volume=found["system.filesystem.utilization"],
        )

    def _found(self, ship: Ship, at: float) -> dict[str, float]:
        found: dict[str, float] = {}
        for one in self._model.measure(ship, np.array([at])):
            kind = "".join(v for k, v in one.attributes.items() if k.endswith((".direction", ".state")))
            found[f"{one.metric} {kind}".strip()] = float(one.values[0])
        return found

    def step(self) -> None:
        """One interval."""
        now = time.time()
        for principal, host, collectors in self._read:
            found, meanings = Sorted(), dict[str, Meaning]()
            for collector in collectors:
                found.add(list(collector.read(now)))
                meanings.update(collector.meanings)
            resource = {"host.name": host}
            metrics = metrics_request(resource, found.readings, meanings, at=now, since=self._started)
            self._deliver(principal, metrics, logs_request(resource, found.lines, found.kept))
            told = [one for read in collectors if isinstance(read, Channels) for one in read.sources()]
            self._console.reports.note_files(principal.host or 0, told)

    def _deliver(self, principal: Principal, metrics: bytes, logs: bytes) -> None:
        async def work() -> None:
            async with asyncio.timeout(WAIT):
                await self._console.metric_intake.take(principal, metrics, as_json=False)
                await self._console.log_intake.take(principal, logs, as_json=False)

        asyncio.run(work())
