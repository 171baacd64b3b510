"""The operating system this runs on, by psutil, under the names of the OTLP semantic conventions.

Where the conventions have no name, ours begin with `balise.`.
"""

from __future__ import annotations

import os
import time
from collections.abc import Iterator

import psutil

from balise.collect.readings import Collector, Meaning, Reading

_PSEUDO = {
    "proc", "sysfs", "devtmpfs", "devpts", "cgroup", "cgroup2", "debugfs", "tracefs", "securityfs", "pstore",
    "bpf", "mqueue", "hugetlbfs", "configfs", "fusectl", "binfmt_misc", "autofs", "nsfs", "rpc_pipefs", "efivarfs",
}  # fmt: skip


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
    _modes = ("user", "nice", "system", "idle", "iowait", "irq", "softirq", "steal")
    _names = {"irq": "interrupt", "softirq": "softirq"}

    def __init__(self) -> None:
        self._before: tuple[float, ...] | None = None

    def read(self, now: float) -> Iterator[Reading]:
        del now
        cores = psutil.cpu_times(percpu=True)
        for number, times in enumerate(cores):
            for mode in self._modes:
                value = getattr(times, mode, None)
                if value is not None:
                    named = {"cpu.logical_number": str(number), "cpu.mode": self._names.get(mode, mode)}
                    yield Reading("system.cpu.time", value, named)
        yield from self._shares([sum(getattr(t, m, 0.0) for t in cores) for m in self._modes])
        yield Reading("system.cpu.logical.count", float(len(cores)))
        one, five, fifteen = os.getloadavg()
        for name, value in (("1m", one), ("5m", five), ("15m", fifteen)):
            yield Reading(f"system.cpu.load_average.{name}", value)
        yield Reading("balise.cpu.load_per_core", round(one / max(len(cores), 1), 4))

    def _shares(self, totals: list[float]) -> Iterator[Reading]:
        before, self._before = self._before, tuple(totals)
        if before is None:
            return
        grown = [max(0.0, b - a) for a, b in zip(before, totals, strict=True)]
        whole = sum(grown)
        if whole <= 0:
            return
        for mode, part in zip(self._modes, grown, strict=True):
            yield Reading("system.cpu.utilization", round(part / whole, 5), {"cpu.mode": self._names.get(mode, mode)})
        idle = grown[self._modes.index("idle")] + grown[self._modes.index("iowait")]
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

    def read(self, now: float) -> Iterator[Reading]:
        del now
        m = psutil.virtual_memory()
        buffers, cached = getattr(m, "buffers", 0), getattr(m, "cached", 0)
        # Used is what programs hold and could not be had back at once: total less available.
        parts = {"used": m.total - m.available, "free": m.free, "buffers": buffers, "cached": cached}
        for state, size in parts.items():
            yield Reading("system.memory.usage", float(size), {"system.memory.state": state})
            yield Reading("system.memory.utilization", round(size / m.total, 5), {"system.memory.state": state})
        yield Reading("system.memory.limit", float(m.total))
        swap = psutil.swap_memory()
        for state, size in (("used", swap.used), ("free", swap.free)):
            yield Reading("system.paging.usage", float(size), {"system.paging.state": state})
            if swap.total:
                yield Reading("system.paging.utilization", round(size / swap.total, 5), {"system.paging.state": state})
        for direction, count in (("in", swap.sin), ("out", swap.sout)):
            yield Reading("system.paging.operations", count / 4096, {"system.paging.direction": direction})


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

    def read(self, now: float) -> Iterator[Reading]:
        del now
        seen: set[str] = set()
        for part in psutil.disk_partitions(all=True):
            if part.fstype in _PSEUDO or part.mountpoint in seen or len(seen) >= self.most:
                continue
            if part.mountpoint.startswith(("/proc/", "/sys/", "/dev/")) or not os.path.isdir(part.mountpoint):
                continue
            seen.add(part.mountpoint)
            yield from self._one(part.device, part.mountpoint, part.fstype, "ro" in part.opts.split(","))

    @staticmethod
    def _one(device: str, mountpoint: str, kind: str, read_only: bool) -> Iterator[Reading]:
        try:
            s = os.statvfs(mountpoint)
        except OSError:
            # Unmounted between the two calls, or not ours to look at.
            return
        if not s.f_blocks:
            return
        named = {
            "system.device": device,
            "system.filesystem.mountpoint": mountpoint,
            "system.filesystem.type": kind,
            "system.filesystem.mode": "ro" if read_only else "rw",
        }
        used, free = (s.f_blocks - s.f_bfree) * s.f_frsize, s.f_bavail * s.f_frsize
        reserved = (s.f_bfree - s.f_bavail) * s.f_frsize
        for state, size in (("used", used), ("free", free), ("reserved", reserved)):
            yield Reading("system.filesystem.usage", float(size), {**named, "system.filesystem.state": state})
        yield Reading("system.filesystem.limit", float(s.f_blocks * s.f_frsize), named)
        if used + free:
            yield Reading("system.filesystem.utilization", round(used / (used + free), 5), named)
        if s.f_files:
            for state, count in (("used", s.f_files - s.f_ffree), ("free", s.f_ffree)):
                held = {**named, "system.filesystem.state": state}
                yield Reading("balise.filesystem.inodes.usage", float(count), held)
            share = round((s.f_files - s.f_ffree) / s.f_files, 5)
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

    def read(self, now: float) -> Iterator[Reading]:
        del now
        for device, c in list((psutil.disk_io_counters(perdisk=True) or {}).items())[:200]:
            if device.startswith(("loop", "ram")):
                continue
            for direction, size, count, took in (
                ("read", c.read_bytes, c.read_count, c.read_time),
                ("write", c.write_bytes, c.write_count, c.write_time),
            ):
                named = {"system.device": device, "disk.io.direction": direction}
                yield Reading("system.disk.io", float(size), named)
                yield Reading("system.disk.operations", float(count), named)
                yield Reading("system.disk.operation_time", took / 1000, named)
            if hasattr(c, "busy_time"):
                yield Reading("system.disk.io_time", c.busy_time / 1000, {"system.device": device})


class Network:
    """What goes in and out."""

    name = "network"
    meanings = {
        "system.network.io": Meaning("By", "counter", "Bytes received and sent"),
        "system.network.packet.count": Meaning("{packet}", "counter", "Packets received and sent"),
        "system.network.errors": Meaning("{error}", "counter", "Packets that were damaged"),
        "system.network.packet.dropped": Meaning("{packet}", "counter", "Packets that were dropped"),
    }

    def read(self, now: float) -> Iterator[Reading]:
        del now
        for interface, c in list(psutil.net_io_counters(pernic=True).items())[:200]:
            for direction, size, packets, errors, dropped in (
                ("receive", c.bytes_recv, c.packets_recv, c.errin, c.dropin),
                ("transmit", c.bytes_sent, c.packets_sent, c.errout, c.dropout),
            ):
                named = {"network.interface.name": interface, "network.io.direction": direction}
                yield Reading("system.network.io", float(size), named)
                yield Reading("system.network.packet.count", float(packets), named)
                yield Reading("system.network.errors", float(errors), named)
                yield Reading("system.network.packet.dropped", float(dropped), named)


class Uptime:
    """How long the system has been up."""

    name = "uptime"
    meanings = {"system.uptime": Meaning("s", "gauge", "Seconds since the system started")}

    def read(self, now: float) -> Iterator[Reading]:
        yield Reading("system.uptime", round(now - psutil.boot_time(), 1))


class Processes:
    """How many processes there are, and which are busiest. `busiest` is what the last reading found."""

    name = "processes"
    keep = 8
    meanings = {
        "system.process.count": Meaning("{process}", "gauge", "Processes by state"),
    }
    _states = {
        "R": "running", "S": "sleeping", "D": "waiting", "Z": "zombie", "T": "stopped", "t": "stopped", "I": "sleeping",
    }  # fmt: skip

    def __init__(self) -> None:
        self._before: dict[tuple[int, int], int] = {}
        self._at = 0.0
        self._tick = os.sysconf("SC_CLK_TCK")
        self._page = os.sysconf("SC_PAGE_SIZE")
        self._names: dict[tuple[int, int], tuple[str, str]] = {}
        self.busiest: list[dict[str, object]] = []

    def read(self, now: float) -> Iterator[Reading]:
        """Reads /proc/PID/stat itself: one small file a process, where psutil would open several."""
        del now
        moment = time.monotonic()
        states: dict[str, int] = {}
        ticks: dict[tuple[int, int], int] = {}
        sizes: dict[tuple[int, int], int] = {}
        for pid in psutil.pids():
            try:
                with open(f"/proc/{pid}/stat", "rb") as file:
                    text = file.read(2048)
            except OSError:
                continue
            part = text[text.rfind(b")") + 2 :].split()
            state = self._states.get(part[0].decode(), "other")
            states[state] = states.get(state, 0) + 1
            key = (pid, int(part[19]))
            ticks[key] = int(part[11]) + int(part[12])
            sizes[key] = int(part[21]) * self._page
        self.busiest = self._busiest(ticks, sizes, moment)
        self._before, self._at = ticks, moment
        for state in ("running", "sleeping", "waiting", "zombie", "stopped"):
            yield Reading("system.process.count", float(states.get(state, 0)), {"process.state": state})

    def _busiest(
        self, ticks: dict[tuple[int, int], int], sizes: dict[tuple[int, int], int], moment: float
    ) -> list[dict[str, object]]:
        seconds = max(moment - self._at, 0.001) if self._at else 0.0
        share = {
            key: (used - self._before.get(key, used if not self._at else 0)) / self._tick / seconds if seconds else 0.0
            for key, used in ticks.items()
        }
        by_cpu = sorted((k for k in share if share[k] > 0.0005), key=lambda k: -share[k])[: self.keep]
        by_memory = sorted(sizes, key=lambda k: -sizes[k])[: self.keep]
        chosen = dict.fromkeys([*by_cpu, *by_memory])
        self._names = {k: v for k, v in self._names.items() if k in ticks}
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
        """Name and user of a process. Arguments are left out: they may hold secrets."""
        held = self._names.get(key)
        if held is None:
            try:
                process = psutil.Process(key[0])
                held = (process.name(), process.username())
            except (psutil.Error, OSError, KeyError):
                held = (f"pid {key[0]}", "")
            self._names[key] = held
        return held


def system_collectors() -> list[Collector]:
    """A collector of each kind but `Processes`, whose evidence somebody has to take."""
    return [Cpu(), Memory(), Filesystems(), Disks(), Network(), Uptime()]
