"""A Unix system's collectors, under the names of the OTLP semantic conventions.

Where the conventions have no name, ours begin with `balise.`. What a collector looks at is handed to it: this
machine, by psutil, or what a distant one said (`collect.remote.linux`), so that both tell the same.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass

from balise.collect.readings import Meaning, Reading

CPU_MODES = ("user", "nice", "system", "idle", "iowait", "irq", "softirq", "steal")
PSEUDO = {
    "proc", "sysfs", "devtmpfs", "devpts", "cgroup", "cgroup2", "debugfs", "tracefs", "securityfs", "pstore",
    "bpf", "mqueue", "hugetlbfs", "configfs", "fusectl", "binfmt_misc", "autofs", "nsfs", "rpc_pipefs", "efivarfs",
}  # fmt: skip


def is_storage(kind: str, mountpoint: str) -> bool:
    """Whether a mounted filesystem can fill up: not one that the kernel makes up."""
    return kind not in PSEUDO and not mountpoint.startswith(("/proc/", "/sys/", "/dev/"))


@dataclass(frozen=True, slots=True)
class CpuLook:
    """Seconds each logical CPU spent in each of `CPU_MODES`, and the load; None where a system does not tell."""

    cores: Sequence[Sequence[float | None]]
    load: tuple[float, float, float] | None


@dataclass(frozen=True, slots=True)
class MemoryLook:
    """Bytes; `swapped_in` and `swapped_out` in pages since the start."""

    total: int
    available: int
    free: int
    buffers: int
    cached: int
    swap_total: int
    swap_free: int
    swapped_in: float
    swapped_out: float


@dataclass(frozen=True, slots=True)
class SpaceLook:
    """One mounted filesystem, in bytes and inodes; `free` is what programs can have."""

    device: str
    mountpoint: str
    kind: str
    read_only: bool
    size: int
    used: int
    free: int
    inodes: int = 0
    inodes_free: int = 0


@dataclass(frozen=True, slots=True)
class DiskLook:
    """Counters of one disk since the start: bytes, operations, seconds."""

    device: str
    read: tuple[float, float, float]
    write: tuple[float, float, float]
    busy: float | None


@dataclass(frozen=True, slots=True)
class CardLook:
    """Counters of one network interface since the start: bytes, packets, errors, dropped."""

    name: str
    receive: tuple[float, float, float, float]
    transmit: tuple[float, float, float, float]


def memory_parts(m: MemoryLook) -> dict[str, int]:
    """Memory by state, which adds up to all there is.

    Used is what programs hold and could not be had back at once: total less available. The rest is free, or holds
    buffers, or is cached and would be given up; memory that programs share counts as cached for the kernel and is used.
    """
    available = min(max(0, m.available), m.total)
    free = min(m.free, available)
    buffers = min(m.buffers, available - free)
    return {"used": m.total - available, "free": free, "buffers": buffers, "cached": available - free - buffers}


class Cpu:
    """Time and shares of the processors, and the load."""

    name = "cpu"
    meanings = {
        "system.cpu.time": Meaning("s", "counter", "Seconds each logical CPU spent in each mode"),
        "system.cpu.utilization": Meaning(
            "1", "gauge", "Share of all CPU time spent in each mode since the last reading"
        ),
        "balise.cpu.busy": Meaning("1", "gauge", "Share of all CPU time that was not idle and not waiting for storage"),
        "system.cpu.logical.count": Meaning("{cpu}", "gauge", "Logical processors"),
        "system.cpu.load_average.1m": Meaning("{thread}", "gauge", "Threads that run or want to, mean over 1 minute"),
        "system.cpu.load_average.5m": Meaning("{thread}", "gauge", "Threads that run or want to, mean over 5 minutes"),
        "system.cpu.load_average.15m": Meaning(
            "{thread}", "gauge", "Threads that run or want to, mean over 15 minutes"
        ),
        "balise.cpu.load_per_core": Meaning("1", "gauge", "Load of 1 minute over the number of logical processors"),
    }
    _names = {"irq": "interrupt", "softirq": "softirq"}

    def __init__(self, look: Callable[[], CpuLook]) -> None:
        self._look = look
        self._before: tuple[float, ...] | None = None

    def read(self, now: float) -> Iterator[Reading]:
        del now
        found = self._look()
        for number, times in enumerate(found.cores):
            for mode, value in zip(CPU_MODES, times, strict=True):
                if value is not None:
                    named = {"cpu.logical_number": str(number), "cpu.mode": self._names.get(mode, mode)}
                    yield Reading("system.cpu.time", value, named)
        yield from self._shares([sum(t[i] or 0.0 for t in found.cores) for i in range(len(CPU_MODES))])
        yield Reading("system.cpu.logical.count", float(len(found.cores)))
        if found.load is None:
            return
        for name, value in zip(("1m", "5m", "15m"), found.load, strict=True):
            yield Reading(f"system.cpu.load_average.{name}", value)
        yield Reading("balise.cpu.load_per_core", round(found.load[0] / max(len(found.cores), 1), 4))

    def _shares(self, totals: list[float]) -> Iterator[Reading]:
        before, self._before = self._before, tuple(totals)
        if before is None:
            return
        grown = [max(0.0, b - a) for a, b in zip(before, totals, strict=True)]
        whole = sum(grown)
        if whole <= 0:
            return
        for mode, part in zip(CPU_MODES, grown, strict=True):
            yield Reading("system.cpu.utilization", round(part / whole, 5), {"cpu.mode": self._names.get(mode, mode)})
        idle = grown[CPU_MODES.index("idle")] + grown[CPU_MODES.index("iowait")]
        yield Reading("balise.cpu.busy", round(1 - idle / whole, 5))


class Memory:
    """Memory and swap."""

    name = "memory"
    meanings = {
        "system.memory.usage": Meaning("By", "gauge", "Memory by what it is used for"),
        "system.memory.utilization": Meaning("1", "gauge", "Share of memory by what it is used for"),
        "system.memory.limit": Meaning("By", "gauge", "Memory there is"),
        "system.paging.usage": Meaning("By", "gauge", "Swap space by state"),
        "system.paging.utilization": Meaning("1", "gauge", "Share of swap space by state"),
        "system.paging.operations": Meaning("{operation}", "counter", "Pages moved to and from swap"),
    }

    def __init__(self, look: Callable[[], MemoryLook]) -> None:
        self._look = look

    def read(self, now: float) -> Iterator[Reading]:
        del now
        m = self._look()
        parts = memory_parts(m)
        for state, size in parts.items():
            yield Reading("system.memory.usage", float(size), {"system.memory.state": state})
            yield Reading("system.memory.utilization", round(size / m.total, 5), {"system.memory.state": state})
        yield Reading("system.memory.limit", float(m.total))
        for state, size in (("used", m.swap_total - m.swap_free), ("free", m.swap_free)):
            yield Reading("system.paging.usage", float(size), {"system.paging.state": state})
            if m.swap_total:
                share = round(size / m.swap_total, 5)
                yield Reading("system.paging.utilization", share, {"system.paging.state": state})
        for direction, count in (("in", m.swapped_in), ("out", m.swapped_out)):
            yield Reading("system.paging.operations", count, {"system.paging.direction": direction})


class Filesystems:
    """Space and inodes of what is mounted."""

    name = "filesystem"
    most = 100
    meanings = {
        "system.filesystem.usage": Meaning("By", "gauge", "Space of a mounted filesystem by state"),
        "system.filesystem.utilization": Meaning("1", "gauge", "Share of the space that programs can use that is used"),
        "system.filesystem.limit": Meaning("By", "gauge", "Space of a mounted filesystem"),
        "balise.filesystem.inodes.usage": Meaning("{inode}", "gauge", "Inodes of a mounted filesystem by state"),
        "balise.filesystem.inodes.utilization": Meaning("1", "gauge", "Share of the inodes in use"),
    }

    def __init__(self, look: Callable[[], Iterable[SpaceLook]]) -> None:
        self._look = look

    def read(self, now: float) -> Iterator[Reading]:
        del now
        seen: set[str] = set()
        for part in self._look():
            if part.mountpoint not in seen and part.size and len(seen) < self.most:
                seen.add(part.mountpoint)
                yield from self._one(part)

    @staticmethod
    def _one(s: SpaceLook) -> Iterator[Reading]:
        named = {
            "system.device": s.device,
            "system.filesystem.mountpoint": s.mountpoint,
            "system.filesystem.type": s.kind,
            "system.filesystem.mode": "ro" if s.read_only else "rw",
        }
        for state, size in (("used", s.used), ("free", s.free), ("reserved", s.size - s.used - s.free)):
            yield Reading("system.filesystem.usage", float(size), {**named, "system.filesystem.state": state})
        yield Reading("system.filesystem.limit", float(s.size), named)
        if s.used + s.free:
            yield Reading("system.filesystem.utilization", round(s.used / (s.used + s.free), 5), named)
        if s.inodes:
            for state, count in (("used", s.inodes - s.inodes_free), ("free", s.inodes_free)):
                held = {**named, "system.filesystem.state": state}
                yield Reading("balise.filesystem.inodes.usage", float(count), held)
            share = round((s.inodes - s.inodes_free) / s.inodes, 5)
            yield Reading("balise.filesystem.inodes.utilization", share, named)


class Disks:
    """What is read from and written to disks."""

    name = "disk"
    meanings = {
        "system.disk.io": Meaning("By", "counter", "Bytes read from and written to a disk"),
        "system.disk.operations": Meaning("{operation}", "counter", "Reads and writes of a disk"),
        "system.disk.io_time": Meaning("s", "counter", "Seconds a disk was busy"),
        "system.disk.operation_time": Meaning("s", "counter", "Seconds operations of a disk took, added up"),
        "balise.disk.latency": Meaning("s", "gauge", "Seconds an operation took, mean since the last reading"),
        "balise.disk.queue": Meaning("{operation}", "gauge", "Operations under way, mean since the last reading"),
    }

    def __init__(self, look: Callable[[], Iterable[DiskLook]]) -> None:
        self._look = look
        self._before: dict[str, DiskLook] = {}
        self._at = 0.0

    def read(self, now: float) -> Iterator[Reading]:
        disks = {d.device: d for d in self._look() if not d.device.startswith(("loop", "ram", "zram"))}
        before, self._before = self._before, dict(list(disks.items())[:200])
        passed, self._at = now - self._at, now
        for disk in self._before.values():
            if disk.device in before:
                yield from self._since(before[disk.device], disk, passed)
            for direction, (size, count, took) in (("read", disk.read), ("write", disk.write)):
                named = {"system.device": disk.device, "disk.io.direction": direction}
                yield Reading("system.disk.io", size, named)
                yield Reading("system.disk.operations", count, named)
                yield Reading("system.disk.operation_time", took, named)
            if disk.busy is not None:
                yield Reading("system.disk.io_time", disk.busy, {"system.device": disk.device})

    @staticmethod
    def _since(before: DiskLook, disk: DiskLook, passed: float) -> Iterator[Reading]:
        """How long operations took, and how many were under way (their times added up over the time that passed)."""
        under_way = 0.0
        for direction, old, new in (("read", before.read, disk.read), ("write", before.write, disk.write)):
            count, took = new[1] - old[1], new[2] - old[2]
            if count > 0 and took >= 0:
                named = {"system.device": disk.device, "disk.io.direction": direction}
                yield Reading("balise.disk.latency", round(took / count, 6), named)
            under_way += max(0.0, took)
        if passed > 0:
            yield Reading("balise.disk.queue", round(under_way / passed, 4), {"system.device": disk.device})


class Network:
    """What goes in and out."""

    name = "network"
    meanings = {
        "system.network.io": Meaning("By", "counter", "Bytes received and sent"),
        "system.network.packet.count": Meaning("{packet}", "counter", "Packets received and sent"),
        "system.network.errors": Meaning("{error}", "counter", "Packets that were damaged"),
        "system.network.packet.dropped": Meaning("{packet}", "counter", "Packets that were dropped"),
    }

    def __init__(self, look: Callable[[], Iterable[CardLook]]) -> None:
        self._look = look

    def read(self, now: float) -> Iterator[Reading]:
        del now
        for card in list(self._look())[:200]:
            for direction, (size, packets, errors, dropped) in (
                ("receive", card.receive),
                ("transmit", card.transmit),
            ):
                named = {"network.interface.name": card.name, "network.io.direction": direction}
                yield Reading("system.network.io", size, named)
                yield Reading("system.network.packet.count", packets, named)
                yield Reading("system.network.errors", errors, named)
                yield Reading("system.network.packet.dropped", dropped, named)


class Uptime:
    """How long the system has been up."""

    name = "uptime"
    meanings = {"system.uptime": Meaning("s", "gauge", "Seconds since the system started")}

    def __init__(self, look: Callable[[float], float]) -> None:
        self._look = look

    def read(self, now: float) -> Iterator[Reading]:
        yield Reading("system.uptime", round(self._look(now), 1))
