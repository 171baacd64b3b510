"""A Unix system's collectors, under the names of the OTLP semantic conventions.

Where the conventions have no name, ours begin with `balise.`. What a collector looks at is handed to it: this
machine, by psutil, or what a distant one said (`collect.remote.linux`), so that both tell the same.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
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
    """Seconds each logical CPU spent in each of `CPU_MODES` (None where a system does not tell), and the load."""

    cores: Sequence[Sequence[float | None]]
    load: tuple[float, float, float]


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


@dataclass(frozen=True, slots=True)
class ProcessLook:
    """One process: `started` tells a new one of the same number, `cpu` seconds since then, `memory` in bytes."""

    pid: int
    started: int
    state: str
    cpu: float
    memory: int


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
        # Used is what programs hold and could not be had back at once: total less available.
        parts = {"used": m.total - m.available, "free": m.free, "buffers": m.buffers, "cached": m.cached}
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
    }

    def __init__(self, look: Callable[[], Iterable[DiskLook]]) -> None:
        self._look = look

    def read(self, now: float) -> Iterator[Reading]:
        del now
        for disk in list(self._look())[:200]:
            if disk.device.startswith(("loop", "ram")):
                continue
            for direction, (size, count, took) in (("read", disk.read), ("write", disk.write)):
                named = {"system.device": disk.device, "disk.io.direction": direction}
                yield Reading("system.disk.io", size, named)
                yield Reading("system.disk.operations", count, named)
                yield Reading("system.disk.operation_time", took, named)
            if disk.busy is not None:
                yield Reading("system.disk.io_time", disk.busy, {"system.device": disk.device})


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


class Processes:
    """How many processes there are, and which are busiest. `busiest` is what the last reading found.

    Args:
        look: the moment of looking (monotonic seconds) and all processes.
        name_of: name and user of a process; asked for the busiest alone. Never arguments: they may hold secrets.
    """

    name = "processes"
    keep = 8
    meanings = {
        "system.process.count": Meaning("{process}", "gauge", "Processes by state"),
    }
    _states = {
        "R": "running", "S": "sleeping", "D": "waiting", "Z": "zombie", "T": "stopped", "t": "stopped", "I": "sleeping",
    }  # fmt: skip

    def __init__(
        self, look: Callable[[], tuple[float, Iterable[ProcessLook]]], name_of: Callable[[int], tuple[str, str]]
    ) -> None:
        self._look = look
        self._name_of = name_of
        self._before: dict[tuple[int, int], float] | None = None
        self._at = 0.0
        self._names: dict[tuple[int, int], tuple[str, str]] = {}
        self.busiest: list[dict[str, object]] = []

    def read(self, now: float) -> Iterator[Reading]:
        del now
        moment, processes = self._look()
        states: dict[str, int] = {}
        used: dict[tuple[int, int], float] = {}
        sizes: dict[tuple[int, int], int] = {}
        for process in processes:
            state = self._states.get(process.state, "other")
            states[state] = states.get(state, 0) + 1
            key = (process.pid, process.started)
            used[key], sizes[key] = process.cpu, process.memory
        self.busiest = self._busiest(used, sizes, moment)
        self._before, self._at = used, moment
        for state in ("running", "sleeping", "waiting", "zombie", "stopped"):
            yield Reading("system.process.count", float(states.get(state, 0)), {"process.state": state})

    def _busiest(
        self, used: Mapping[tuple[int, int], float], sizes: Mapping[tuple[int, int], int], moment: float
    ) -> list[dict[str, object]]:
        before, passed = self._before, max(moment - self._at, 0.001)
        share = {k: 0.0 if before is None else max(0.0, cpu - before.get(k, 0.0)) / passed for k, cpu in used.items()}
        by_cpu = sorted((k for k in share if share[k] > 0.0005), key=lambda k: -share[k])[: self.keep]
        by_memory = sorted(sizes, key=lambda k: -sizes[k])[: self.keep]
        chosen = dict.fromkeys([*by_cpu, *by_memory])
        self._names = {k: v for k, v in self._names.items() if k in used}
        return [
            {
                "pid": key[0],
                "name": self._named(key)[0],
                "user": self._named(key)[1],
                "cpu": round(share[key], 4),
                "memory": sizes[key],
            }
            for key in chosen
        ]

    def _named(self, key: tuple[int, int]) -> tuple[str, str]:
        if key not in self._names:
            self._names[key] = self._name_of(key[0])
        return self._names[key]


class Pressure:
    """How long work stood still for want of processor, memory or storage (pressure stall information)."""

    name = "pressure"
    meanings = {
        "balise.pressure.time": Meaning("s", "counter", "Time in which some or all work waited for a resource"),
        "balise.pressure.share": Meaning("1", "gauge", "Share of the last 10 seconds in which work waited for it"),
    }

    def __init__(self, look: Callable[[], Mapping[str, str]]) -> None:
        self._look = look

    def read(self, now: float) -> Iterator[Reading]:
        del now
        for resource, text in self._look().items():
            for line in text.splitlines():
                who, *pairs = line.split()
                said = dict(pair.split("=", 1) for pair in pairs if "=" in pair)
                named = {"balise.resource": resource, "balise.stalled": who}
                yield Reading("balise.pressure.time", float(said["total"]) / 1e6, named)
                yield Reading("balise.pressure.share", float(said["avg10"]) / 100, named)


@dataclass(frozen=True, slots=True)
class KernelLook:
    """Counters and limits of the kernel; None for what this kernel does not tell."""

    switches: float | None = None
    interrupts: float | None = None
    forks: float | None = None
    files: tuple[float, float] | None = None
    connections: tuple[float, float] | None = None
    entropy: float | None = None
    killed_for_memory: float | None = None


def kernel_look(stat: str, vmstat: str, files: str, tracked: str, entropy: str) -> KernelLook:
    """The kernel's counts out of its own texts: /proc/stat, /proc/vmstat, fs/file-nr, conntrack count and maximum."""

    def number(text: str) -> float | None:
        return float(text) if text.strip().isdecimal() else None

    told = {k: v for text in (stat, vmstat) for k, _, v in (line.partition(" ") for line in text.splitlines())}
    handles, connections = files.split(), [float(n) for n in tracked.split() if n.isdecimal()]
    return KernelLook(
        switches=number(told.get("ctxt", "")),
        interrupts=number(told.get("intr", "").split(" ")[0]),
        forks=number(told.get("processes", "")),
        files=(float(handles[0]) - float(handles[1]), min(float(handles[2]), 1e15)) if len(handles) == 3 else None,
        connections=(connections[0], connections[1]) if len(connections) == 2 else None,
        entropy=number(entropy),
        killed_for_memory=number(told.get("oom_kill", "")),
    )


class Kernel:
    """Context switches, interrupts, new processes, and the tables of the kernel that can run full."""

    name = "kernel"
    meanings = {
        "system.process.created": Meaning("{process}", "counter", "Processes started"),
        "balise.kernel.context_switches": Meaning("{switch}", "counter", "Switches from one thread to another"),
        "balise.kernel.interrupts": Meaning("{interrupt}", "counter", "Interrupts served"),
        "balise.kernel.files": Meaning("{file}", "gauge", "File handles in use, and the most there can be"),
        "balise.kernel.connections": Meaning("{connection}", "gauge", "Connections tracked, and the most there can be"),
        "balise.kernel.entropy": Meaning("bit", "gauge", "Randomness the kernel has at hand"),
        "balise.kernel.killed_for_memory": Meaning("{process}", "counter", "Processes ended because memory ran out"),
    }

    def __init__(self, look: Callable[[], KernelLook]) -> None:
        self._look = look

    def read(self, now: float) -> Iterator[Reading]:
        del now
        k = self._look()
        for metric, value in (
            ("balise.kernel.context_switches", k.switches),
            ("balise.kernel.interrupts", k.interrupts),
            ("system.process.created", k.forks),
            ("balise.kernel.entropy", k.entropy),
            ("balise.kernel.killed_for_memory", k.killed_for_memory),
        ):
            if value is not None:
                yield Reading(metric, value)
        for metric, pair in (("balise.kernel.files", k.files), ("balise.kernel.connections", k.connections)):
            for state, value in zip(("used", "limit"), pair or (), strict=False):
                yield Reading(metric, value, {"balise.state": state})


@dataclass(frozen=True, slots=True)
class SignedIn:
    """Somebody who is signed in: where, from where, and since when (unix seconds)."""

    user: str
    terminal: str
    origin: str
    since: float


class Users:
    """Who is signed in."""

    name = "users"
    meanings = {
        "balise.users": Meaning("{session}", "gauge", "Sessions of people who are signed in, by user"),
        "balise.cpu.user": Meaning("1", "gauge", "Cores that the processes of a user keep busy, for the busiest"),
        "balise.memory.user": Meaning("By", "gauge", "Memory that the processes of a user hold, for the largest"),
    }

    def __init__(
        self, look: Callable[[], Iterable[SignedIn]], busiest: Callable[[], Iterable[Mapping[str, object]]]
    ) -> None:
        self._look = look
        self._busiest = busiest
        self.sessions: list[dict[str, object]] = []

    def read(self, now: float) -> Iterator[Reading]:
        found = list(self._look())[:200]
        counts: dict[str, int] = {}
        for one in found:
            counts[one.user] = counts.get(one.user, 0) + 1
        self.sessions = [
            {"user": s.user, "terminal": s.terminal, "origin": s.origin, "seconds": round(max(0.0, now - s.since))}
            for s in found
        ]
        for user, count in sorted(counts.items(), key=lambda c: -c[1])[:20]:
            yield Reading("balise.users", float(count), {"user.name": user})
        cpu: dict[str, float] = {}
        memory: dict[str, float] = {}
        for process in self._busiest():
            user = str(process.get("user", ""))
            cpu[user] = cpu.get(user, 0.0) + float(str(process.get("cpu", 0)))
            memory[user] = memory.get(user, 0.0) + float(str(process.get("memory", 0)))
        for user, share in sorted(cpu.items(), key=lambda c: -c[1])[:8]:
            yield Reading("balise.cpu.user", round(share, 4), {"user.name": user})
            yield Reading("balise.memory.user", memory[user], {"user.name": user})


MEANINGS: Mapping[str, Mapping[str, Meaning]] = {
    collector.name: collector.meanings
    for collector in (Cpu, Memory, Filesystems, Disks, Network, Uptime, Processes, Pressure, Kernel, Users)
}
"""What each part of a system tells, by the part's name in plans."""
