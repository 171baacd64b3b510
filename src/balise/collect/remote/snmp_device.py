"""What the tables of a device say: IF-MIB (RFC 2863), HOST-RESOURCES-MIB (RFC 2790) and UCD-SNMP-MIB."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from balise.collect.readings import Reading
from balise.collect.remote.linux import printable
from balise.collect.remote.snmp_session import Column, is_value
from balise.collect.system import CardLook, SpaceLook, is_storage

INTERFACES = "1.3.6.1.2.1.2.2.1"
INTERFACES_X = "1.3.6.1.2.1.31.1.1.1"
STORAGE = "1.3.6.1.2.1.25.2.3.1"
PROCESSORS = "1.3.6.1.2.1.25.3.3.1.2"
UCD_DISKS = "1.3.6.1.4.1.2021.9.1"
OTHER_MEMORY = "1.3.6.1.2.1.25.2.1.1"
RAM, VIRTUAL_MEMORY = "1.3.6.1.2.1.25.2.1.2", "1.3.6.1.2.1.25.2.1.3"
DISKS = {"1.3.6.1.2.1.25.2.1.4": "fixed", "1.3.6.1.2.1.25.2.1.5": "removable", "1.3.6.1.2.1.25.2.1.9": "flash"}


class SnmpDevice:
    """A device as its tables were read last. `columns` are those by their object identifiers."""

    def __init__(self) -> None:
        self.columns: dict[str, Column] = {}
        self.unwrapped = Unwrapped()

    def processors(self) -> Iterator[Reading]:
        loads = [number(value) for value in self.columns.get(PROCESSORS, {}).values()]
        if loads:
            yield Reading("system.cpu.logical.count", float(len(loads)))
            yield Reading("balise.cpu.busy", round(sum(loads) / len(loads) / 100, 5))

    def memory(self) -> Iterator[Reading]:
        size, used = self.ram()
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

    def interfaces(self) -> Iterator[Reading]:
        for index, name in self._names().items():
            named = {"network.interface.name": name}
            if number(self._column(INTERFACES, 7).get(index)) == 1:
                yield Reading("balise.interface.up", float(number(self._column(INTERFACES, 8).get(index)) == 1), named)
            speed = number(self._column(INTERFACES_X, 15).get(index)) * 1e6
            speed = speed or number(self._column(INTERFACES, 5).get(index))
            if speed:
                yield Reading("system.network.interface.speed", speed, named)

    def cards(self) -> Iterator[CardLook]:
        names = self._names()
        for index, name in names.items():

            def narrow(column: int, index: str = index) -> float:
                return self.unwrapped.of(f"{column}.{index}", number(self._column(INTERFACES, column).get(index)))

            def wide(column: int, short: int, index: str = index) -> float:
                value = self._column(INTERFACES_X, column).get(index)
                return number(value) if value is not None else narrow(short, index)

            yield CardLook(
                name,
                (wide(6, 10), wide(7, 11), narrow(14), narrow(13)),
                (wide(10, 16), wide(11, 17), narrow(20), narrow(19)),
            )

    def space(self) -> Iterator[SpaceLook]:
        for name, kind, size, used in self._storage(*DISKS):
            if not is_storage(DISKS[kind], name):
                continue
            # What only the superuser may fill counts for nobody else, where the device tells how much is left for them.
            free = min(self._left(name, size - used), max(0, size - used))
            yield SpaceLook(name, name, DISKS[kind], False, size, used, free)

    def _names(self) -> dict[str, str]:
        """ifName, else ifDescr; one that comes twice has its index beside it."""
        named: dict[str, str] = {}
        for index, value in self._column(INTERFACES, 2).items():
            name = printable(str(self._column(INTERFACES_X, 1).get(index) or value))[:60] or index
            named[index] = name if name not in named.values() else f"{name} {index}"
        return named

    def _column(self, base: str, column: int) -> Column:
        return self.columns.get(f"{base}.{column}", {})

    def _storage(self, *kinds: str) -> Iterator[tuple[str, str, int, int]]:
        """Description, type, size and used, in bytes."""
        for index, kind in self._column(STORAGE, 2).items():
            if str(kind) in kinds:
                unit = int(number(self._column(STORAGE, 4).get(index)))
                size, used = (int(number(self._column(STORAGE, c).get(index))) * unit for c in (5, 6))
                yield printable(str(self._column(STORAGE, 3).get(index) or index))[:200], str(kind), size, used

    def _left(self, name: str, otherwise: int) -> int:
        """The bytes that programs may still write to a place, by the table of disks of UCD-SNMP-MIB."""
        for index, path in self._column(UCD_DISKS, 2).items():
            low, high = (self._column(UCD_DISKS, column).get(index) for column in (13, 14))
            if str(path) == name and low is not None and high is not None:
                return (int(number(high)) * 2**32 + int(number(low))) * 1024
        return otherwise

    def ram(self) -> tuple[int, int]:
        """Size and use of real memory, bytes."""
        return next(((size, used) for _, _, size, used in self._storage(RAM)), (0, 0))

    def _swap(self) -> tuple[int, int]:
        """Size and use of swap space: what has its name, else what virtual memory has beyond the real one."""
        found = list(self._storage(VIRTUAL_MEMORY))
        named = next(((s, u) for name, _, s, u in found if "swap" in name.lower()), None)
        if named is not None or not found:
            return named or (0, 0)
        (size, used), (_, _, whole, in_use) = self.ram(), found[0]
        return max(0, whole - size), max(0, min(in_use - used, whole - size))


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


def number(value: Any) -> float:
    """A value as a number; 0 where there is none."""
    try:
        return float(int(value)) if value is not None and is_value(value) else 0.0
    except (ValueError, TypeError):
        return 0.0
