"""A device read over SNMP v2c (RFC 3416) and v3 (RFC 3414).

What is read: SNMPv2-MIB (RFC 3418), IF-MIB (RFC 2863) and HOST-RESOURCES-MIB (RFC 2790).
"""

from __future__ import annotations

import asyncio
import time

from balise.api.hosts import Facts
from balise.api.remote import RemoteTarget
from balise.collect.readings import Collector, Meaning, Sorted
from balise.collect.remote.link import Taken
from balise.collect.remote.linux import printable
from balise.collect.remote.snmp_device import (
    INTERFACES,
    INTERFACES_X,
    PROCESSORS,
    STORAGE,
    UCD_DISKS,
    SnmpDevice,
    number,
)
from balise.collect.remote.snmp_session import SnmpSession
from balise.collect.system import Filesystems, Memory, Network, Uptime

FACTS_EVERY = 3600.0
SYSTEM = "1.3.6.1.2.1.1"
HOST_UPTIME = "1.3.6.1.2.1.25.1.1.0"
ENGINE_ID = "1.3.6.1.6.3.10.2.1.1.0"
_OWN = {
    "balise.cpu.busy": Meaning("1", "gauge", "Share of all CPU time that was not idle and not waiting for storage"),
    "system.cpu.logical.count": Meaning("{cpu}", "gauge", "Logical processors"),
    "balise.interface.up": Meaning("{state}", "gauge", "1 for an interface that is up, 0 for one that should be"),
    "system.network.interface.speed": Meaning("bit/s", "gauge", "What a network interface can carry"),
}


class SnmpLink:
    """One device, read."""

    host_key = ""

    def __init__(self, target: RemoteTarget) -> None:
        self._target = target
        self._session = SnmpSession(target)
        self._device = SnmpDevice()
        self._uptime = 0.0
        self._told_at = 0.0
        self._collectors: list[Collector] = [
            Network(self._device.cards),
            Filesystems(self._device.space),
            Uptime(lambda _now: self._uptime),
        ]
        self._meanings = {k: v for c in self._collectors for k, v in c.meanings.items()} | _OWN
        self._meanings |= {
            k: v for k, v in Memory.meanings.items() if k.startswith(("system.memory", "system.paging.u"))
        }

    async def read(self, now: float) -> Taken:
        try:
            async with asyncio.timeout(self._target.time_limit):
                return await self._read(now)
        except TimeoutError:
            raise self._session.silence() from None

    async def _read(self, now: float) -> Taken:
        began = time.monotonic()
        system = await self._session.get([f"{SYSTEM}.1.0", f"{SYSTEM}.3.0", f"{SYSTEM}.5.0", HOST_UPTIME, ENGINE_ID])
        # sysUpTime is how long the SNMP agent runs; the host's own is told by HOST-RESOURCES-MIB, where it is.
        self._uptime = number(system.get(HOST_UPTIME, system.get(f"{SYSTEM}.3.0"))) / 100
        self._device.unwrapped.turn(number(system.get(f"{SYSTEM}.3.0")) / 100)
        for base, columns in (
            (INTERFACES, (2, 5, 7, 8, 10, 11, 13, 14, 16, 17, 19, 20)),
            (INTERFACES_X, (1, 6, 7, 10, 11, 15)),
            (STORAGE, (2, 3, 4, 5, 6)),
            (UCD_DISKS, (2, 13, 14)),
        ):
            await self._table(base, columns)
        self._device.columns[PROCESSORS] = await self._session.walk(PROCESSORS)
        found = Sorted()
        for collector in self._collectors:
            found.add(list(collector.read(now)))
        device = self._device
        readings = [*found.readings, *device.processors(), *device.memory(), *device.interfaces()]
        name = printable(str(system.get(f"{SYSTEM}.5.0") or "")) or self._target.host
        engine = system.get(ENGINE_ID)
        facts = Facts(
            host_name=name[:100],
            machine_id=f"snmp-{bytes(engine).hex()}"[:100] if engine is not None else "",
            os=printable(str(system.get(f"{SYSTEM}.1.0") or ""))[:200],
            cores=len(self._device.columns[PROCESSORS]),
            memory=device.ram()[0],
            boot_time=round(now - self._uptime),
            addresses=[self._target.address],
        )
        # The start is reckoned from the uptime and differs by a second now and then: only told with the rest, hourly.
        tell = not self._told_at or began - self._told_at > FACTS_EVERY
        self._told_at = began if tell else self._told_at
        return Taken(readings, self._meanings, time.monotonic() - began, facts=facts if tell else None)

    def adopt(self, target: RemoteTarget) -> None:
        self._target = target
        self._session.adopt(target)

    def settle(self, taken: Taken) -> None:
        """There are no files to follow on a device."""

    async def close(self) -> None:
        await self._session.close()

    async def _table(self, base: str, columns: tuple[int, ...]) -> None:
        for column in columns:
            self._device.columns[f"{base}.{column}"] = await self._session.walk(f"{base}.{column}")
