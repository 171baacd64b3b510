"""A device read over SNMP v2c (RFC 3416) and v3 (RFC 3414).

What is read: SNMPv2-MIB (RFC 3418), IF-MIB (RFC 2863) and HOST-RESOURCES-MIB (RFC 2790).
"""

from __future__ import annotations

import asyncio
import socket
import time
from collections.abc import Iterator
from typing import Any

from pysnmp.hlapi.v3arch.asyncio import (
    CommunityData,
    ContextData,
    ObjectIdentity,
    ObjectType,
    SnmpEngine,
    Udp6TransportTarget,
    UdpTransportTarget,
    UsmUserData,
    bulk_cmd,
    get_cmd,
)
from pysnmp.hlapi.v3arch.asyncio import auth as protocols
from pysnmp.proto import errind
from pysnmp.proto.rfc1905 import EndOfMibView, NoSuchInstance, NoSuchObject

from balise.api.credentials import Snmp2Credential, Snmp3Credential
from balise.api.hosts import Facts
from balise.api.places import is_nobodys
from balise.api.remote import RemoteTarget
from balise.collect.readings import Collector, Meaning, Reading, Sorted
from balise.collect.remote.link import LinkProblem, Taken
from balise.collect.remote.linux import printable
from balise.collect.system import CardLook, Filesystems, Memory, Network, SpaceLook, Uptime, is_storage

AT_ONCE = 25
"""Rows asked for in one request: a reply stays below the 1,472 bytes of a datagram for most tables."""
MOST_ROWS = 2000
FACTS_EVERY = 3600.0
SYSTEM = "1.3.6.1.2.1.1"
INTERFACES = "1.3.6.1.2.1.2.2.1"
INTERFACES_X = "1.3.6.1.2.1.31.1.1.1"
STORAGE = "1.3.6.1.2.1.25.2.3.1"
PROCESSORS = "1.3.6.1.2.1.25.3.3.1.2"
HOST_UPTIME = "1.3.6.1.2.1.25.1.1.0"
ENGINE_ID = "1.3.6.1.6.3.10.2.1.1.0"
UCD_DISKS = "1.3.6.1.4.1.2021.9.1"
OTHER_MEMORY = "1.3.6.1.2.1.25.2.1.1"
RAM, VIRTUAL_MEMORY = "1.3.6.1.2.1.25.2.1.2", "1.3.6.1.2.1.25.2.1.3"
DISKS = {"1.3.6.1.2.1.25.2.1.4": "fixed", "1.3.6.1.2.1.25.2.1.5": "removable", "1.3.6.1.2.1.25.2.1.9": "flash"}
_OWN = {
    "balise.cpu.busy": Meaning("1", "gauge", "Share of all CPU time that was not idle and not waiting for storage"),
    "system.cpu.logical.count": Meaning("{cpu}", "gauge", "Logical processors"),
    "balise.interface.up": Meaning("{state}", "gauge", "1 for an interface that is up, 0 for one that should be"),
    "system.network.interface.speed": Meaning("bit/s", "gauge", "What a network interface can carry"),
}
_AUTH = {
    "MD5": protocols.USM_AUTH_HMAC96_MD5,
    "SHA-1": protocols.USM_AUTH_HMAC96_SHA,
    "SHA-224": protocols.USM_AUTH_HMAC128_SHA224,
    "SHA-256": protocols.USM_AUTH_HMAC192_SHA256,
    "SHA-384": protocols.USM_AUTH_HMAC256_SHA384,
    "SHA-512": protocols.USM_AUTH_HMAC384_SHA512,
}
_PRIVACY = {
    "DES": protocols.USM_PRIV_CBC56_DES,
    "AES-128": protocols.USM_PRIV_CFB128_AES,
    "AES-192": protocols.USM_PRIV_CFB192_AES,
    "AES-256": protocols.USM_PRIV_CFB256_AES,
}

Column = dict[str, Any]
"""The values of one column of a table by the row's index."""


class SnmpLink:
    """One device. There is no connection to keep; the engine, which knows the other's boots and time, is kept."""

    host_key = ""

    def __init__(self, target: RemoteTarget) -> None:
        self._target = target
        self._engine = SnmpEngine()
        self._user = _user_data(target)
        self._transport: Any = None
        self._columns: dict[str, Column] = {}
        self._uptime = 0.0
        self._unwrapped = Unwrapped()
        self._told_at = 0.0
        self._collectors: list[Collector] = [
            Network(self._cards),
            Filesystems(self._space),
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
            raise self._silence() from None

    async def _read(self, now: float) -> Taken:
        began = time.monotonic()
        system = await self._get([f"{SYSTEM}.1.0", f"{SYSTEM}.3.0", f"{SYSTEM}.5.0", HOST_UPTIME, ENGINE_ID])
        # sysUpTime is how long the SNMP agent runs; the host's own is told by HOST-RESOURCES-MIB, where it is.
        self._uptime = _number(system.get(HOST_UPTIME, system.get(f"{SYSTEM}.3.0"))) / 100
        self._unwrapped.turn(_number(system.get(f"{SYSTEM}.3.0")) / 100)
        for base, columns in (
            (INTERFACES, (2, 5, 7, 8, 10, 11, 13, 14, 16, 17, 19, 20)),
            (INTERFACES_X, (1, 6, 7, 10, 11, 15)),
            (STORAGE, (2, 3, 4, 5, 6)),
            (UCD_DISKS, (2, 13, 14)),
        ):
            await self._table(base, columns)
        self._columns[PROCESSORS] = await self._walk(PROCESSORS)
        found = Sorted()
        for collector in self._collectors:
            found.add(list(collector.read(now)))
        readings = [*found.readings, *self._processors(), *self._memory(), *self._interfaces()]
        name = printable(str(system.get(f"{SYSTEM}.5.0") or "")) or self._target.host
        engine = system.get(ENGINE_ID)
        facts = Facts(
            host_name=name[:100],
            machine_id=f"snmp-{bytes(engine).hex()}"[:100] if engine is not None else "",
            os=printable(str(system.get(f"{SYSTEM}.1.0") or ""))[:200],
            cores=len(self._columns[PROCESSORS]),
            memory=self._ram()[0],
            boot_time=round(now - self._uptime),
            addresses=[self._target.address],
        )
        # The start is reckoned from the uptime and differs by a second now and then: only told with the rest, hourly.
        tell = not self._told_at or began - self._told_at > FACTS_EVERY
        self._told_at = began if tell else self._told_at
        return Taken(readings, self._meanings, time.monotonic() - began, facts=facts if tell else None)

    def adopt(self, target: RemoteTarget) -> None:
        self._target = target

    def settle(self, taken: Taken) -> None:
        """There are no files to follow on a device."""

    async def close(self) -> None:
        self._engine.close_dispatcher()

    # --- asking

    async def columns(self, names: list[str]) -> dict[str, Column]:
        """Columns of a table by their object identifiers, each by the row's index. Raises LinkProblem."""
        try:
            async with asyncio.timeout(self._target.time_limit):
                return {name: await self._walk(name) for name in names}
        except TimeoutError:
            raise self._silence() from None

    async def _get(self, names: list[str]) -> Column:
        answer = await get_cmd(
            self._engine,
            self._user,
            await self._there(),
            ContextData(),
            *(ObjectType(ObjectIdentity(n)) for n in names),
        )
        return {str(name): value for name, value in self._checked(answer) if _is_value(value)}

    async def _table(self, base: str, columns: tuple[int, ...]) -> None:
        for column in columns:
            self._columns[f"{base}.{column}"] = await self._walk(f"{base}.{column}")

    async def _walk(self, base: str) -> Column:
        """One column of a table, by GetBulk; an agent that goes in circles is left after `MOST_ROWS`."""
        found: Column = {}
        last, prefix = base, base + "."
        while len(found) < MOST_ROWS:
            answer = await bulk_cmd(
                self._engine,
                self._user,
                await self._there(),
                ContextData(),
                0,
                AT_ONCE,
                ObjectType(ObjectIdentity(last)),
            )
            rows = self._checked(answer)
            before = len(found)
            for name, value in rows:
                last = str(name)
                if not last.startswith(prefix) or isinstance(value, EndOfMibView):
                    return found
                found[last.removeprefix(prefix)] = value
            if len(found) == before:
                break
        return found

    async def _there(self) -> Any:
        if self._transport is None:
            address = await self._resolved()
            kind = Udp6TransportTarget if ":" in address else UdpTransportTarget
            each = max(0.5, self._target.time_limit / 3)
            try:
                self._transport = await kind.create((address, self._target.port), timeout=each, retries=1)
            except Exception:  # noqa: BLE001  its own classes for an address that cannot be used
                raise LinkProblem("failed", "the address cannot be used: is it right?") from None
        return self._transport

    async def _resolved(self) -> str:
        """The address that is sent to, looked at before anything goes there."""
        name, port = self._target.address, self._target.port
        try:
            found = await asyncio.get_running_loop().getaddrinfo(name, port, type=socket.SOCK_DGRAM)
        except (OSError, UnicodeError):
            raise LinkProblem("failed", f"the name {name!r} cannot be resolved: is it right?") from None
        address = str(found[0][4][0])
        if is_nobodys(address):
            raise LinkProblem("failed", f"{name} leads to {address}, which is no server's address")
        return address

    def _checked(self, answer: Any) -> list[tuple[Any, Any]]:
        problem, status, _, rows = answer
        if problem:
            raise self._problem(problem)
        if status:
            words = status.prettyPrint()
            if words in ("authorizationError", "noAccess", "readOnly"):
                raise LinkProblem("no-permission", f"the device knows this user but lets it see nothing ({words})")
            raise LinkProblem("failed", f"the device answers {words}")
        return [(name, value) for name, value in rows]

    def _problem(self, problem: Any) -> LinkProblem:
        if isinstance(problem, errind.UnknownUserName):
            return LinkProblem("wrong-credential", "the device does not know this SNMP user")
        if isinstance(problem, errind.WrongDigest | errind.AuthenticationFailure | errind.AuthenticationError):
            return LinkProblem("wrong-credential", "the device does not accept the authentication password or protocol")
        if isinstance(problem, errind.UnsupportedSecurityLevel):
            return LinkProblem("wrong-credential", "the device wants another security level (auth, privacy)")
        if isinstance(problem, errind.RequestTimedOut):
            return self._silence()
        return LinkProblem("failed", f"SNMP: {str(problem)[:200]}")

    def _silence(self) -> LinkProblem:
        secret = "community" if isinstance(self._target.credential, Snmp2Credential) else "privacy password"
        return LinkProblem(
            "timed-out",
            f"no answer from {self._target.address} port {self._target.port}: the address or port is wrong, a filter "
            f"drops it, or the {secret} is wrong (a device answers nothing to a wrong one)",
        )

    # --- reading what was said

    def _column(self, base: str, column: int) -> Column:
        return self._columns.get(f"{base}.{column}", {})

    def _cards(self) -> Iterator[CardLook]:
        names = self._names()
        for index, name in names.items():

            def narrow(column: int, index: str = index) -> float:
                return self._unwrapped.of(f"{column}.{index}", _number(self._column(INTERFACES, column).get(index)))

            def wide(column: int, short: int, index: str = index) -> float:
                value = self._column(INTERFACES_X, column).get(index)
                return _number(value) if value is not None else narrow(short, index)

            yield CardLook(
                name,
                (wide(6, 10), wide(7, 11), narrow(14), narrow(13)),
                (wide(10, 16), wide(11, 17), narrow(20), narrow(19)),
            )

    def _names(self) -> dict[str, str]:
        """ifName, else ifDescr; one that comes twice has its index beside it."""
        named: dict[str, str] = {}
        for index, value in self._column(INTERFACES, 2).items():
            name = printable(str(self._column(INTERFACES_X, 1).get(index) or value))[:60] or index
            named[index] = name if name not in named.values() else f"{name} {index}"
        return named

    def _interfaces(self) -> Iterator[Reading]:
        for index, name in self._names().items():
            named = {"network.interface.name": name}
            if _number(self._column(INTERFACES, 7).get(index)) == 1:
                yield Reading("balise.interface.up", float(_number(self._column(INTERFACES, 8).get(index)) == 1), named)
            speed = _number(self._column(INTERFACES_X, 15).get(index)) * 1e6
            speed = speed or _number(self._column(INTERFACES, 5).get(index))
            if speed:
                yield Reading("system.network.interface.speed", speed, named)

    def _storage(self, *kinds: str) -> Iterator[tuple[str, str, int, int]]:
        """Description, type, size and used, in bytes."""
        for index, kind in self._column(STORAGE, 2).items():
            if str(kind) in kinds:
                unit = int(_number(self._column(STORAGE, 4).get(index)))
                size, used = (int(_number(self._column(STORAGE, c).get(index))) * unit for c in (5, 6))
                yield printable(str(self._column(STORAGE, 3).get(index) or index))[:200], str(kind), size, used

    def _space(self) -> Iterator[SpaceLook]:
        for name, kind, size, used in self._storage(*DISKS):
            if not is_storage(DISKS[kind], name):
                continue
            # What only the superuser may fill counts for nobody else, where the device tells how much is left for them.
            free = min(self._left(name, size - used), max(0, size - used))
            yield SpaceLook(name, name, DISKS[kind], False, size, used, free)

    def _left(self, name: str, otherwise: int) -> int:
        """The bytes that programs may still write to a place, by the table of disks of UCD-SNMP-MIB."""
        for index, path in self._column(UCD_DISKS, 2).items():
            low, high = (self._column(UCD_DISKS, column).get(index) for column in (13, 14))
            if str(path) == name and low is not None and high is not None:
                return (int(_number(high)) * 2**32 + int(_number(low))) * 1024
        return otherwise

    def _ram(self) -> tuple[int, int]:
        return next(((size, used) for _, _, size, used in self._storage(RAM)), (0, 0))

    def _memory(self) -> Iterator[Reading]:
        size, used = self._ram()
        if size:
            # What HOST-RESOURCES calls used has in it what is kept for buffers and files, where it says how much.
            held = {name.lower(): part for name, _, _, part in self._storage(OTHER_MEMORY)}
            buffers = min(held.get("memory buffers", 0), used)
            shared = min(held.get("shared memory", 0), held.get("cached memory", 0))
            cached = min(held.get("cached memory", 0) - shared, used - buffers)
            parts = {"used": used - buffers - cached, "free": max(0, size - used)}
            yield from _shares("system.memory", parts | ({"buffers": buffers, "cached": cached} if held else {}), size)
            yield Reading("system.memory.limit", float(size))
        size, used = self._swap()
        if size:
            yield from _shares("system.paging", {"used": used, "free": max(0, size - used)}, size)

    def _swap(self) -> tuple[int, int]:
        """Size and use of swap space: what has its name, else what virtual memory has beyond the real one."""
        found = list(self._storage(VIRTUAL_MEMORY))
        named = next(((s, u) for name, _, s, u in found if "swap" in name.lower()), None)
        if named is not None or not found:
            return named or (0, 0)
        (size, used), (_, _, whole, in_use) = self._ram(), found[0]
        return max(0, whole - size), max(0, min(in_use - used, whole - size))

    def _processors(self) -> Iterator[Reading]:
        loads = [_number(value) for value in self._columns.get(PROCESSORS, {}).values()]
        if loads:
            yield Reading("system.cpu.logical.count", float(len(loads)))
            yield Reading("balise.cpu.busy", round(sum(loads) / len(loads) / 100, 5))


def _shares(metric: str, parts: dict[str, int], size: int) -> Iterator[Reading]:
    for state, part in parts.items():
        named = {f"{metric}.state": state}
        yield Reading(f"{metric}.usage", float(part), named)
        yield Reading(f"{metric}.utilization", round(part / size, 5), named)


class Unwrapped:
    """Counters of 32 bits that go on growing when they begin at 0 again, until their device starts anew.

    They are told from their first sight on, so that a link that is opened again tells no growth that was not.
    """

    def __init__(self) -> None:
        self._last: dict[str, tuple[float, float]] = {}
        self._restarted = False
        self._uptime = 0.0

    def turn(self, uptime: float) -> None:
        """A reading begins, on a device that is up for so many seconds."""
        self._restarted = uptime < self._uptime
        self._uptime = uptime

    def of(self, key: str, value: float) -> float:
        """What a counter has grown by since it was seen first."""
        last, total = self._last.get(key, (value, 0.0))
        grown = value if self._restarted else (value - last) % 2**32
        self._last[key] = (value, total + grown)
        return total + grown


def _is_value(value: Any) -> bool:
    return not isinstance(value, NoSuchObject | NoSuchInstance | EndOfMibView)


def _number(value: Any) -> float:
    try:
        return float(int(value)) if value is not None and _is_value(value) else 0.0
    except (ValueError, TypeError):
        return 0.0


def _user_data(target: RemoteTarget) -> Any:
    c = target.credential
    if isinstance(c, Snmp2Credential):
        return CommunityData(c.community.reveal(), mpModel=1)  # noqa: S508  many devices speak nothing newer
    if not isinstance(c, Snmp3Credential):
        raise LinkProblem("wrong-credential", "this credential is not for SNMP: name one of kind snmp")
    return UsmUserData(
        c.user,
        c.auth.password.reveal() if c.auth else None,
        c.privacy.password.reveal() if c.privacy else None,
        authProtocol=_AUTH[c.auth.protocol] if c.auth else protocols.USM_AUTH_NONE,
        privProtocol=_PRIVACY[c.privacy.protocol] if c.privacy else protocols.USM_PRIV_NONE,
    )
