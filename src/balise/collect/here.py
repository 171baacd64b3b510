"""This machine, as `collect.system` wants to see it: by psutil and /proc."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from typing import Any

import psutil

from balise.collect import procfs
from balise.collect.readings import Collector
from balise.collect.system import (
    CPU_MODES,
    CardLook,
    Cpu,
    CpuLook,
    DiskLook,
    Disks,
    Filesystems,
    Kernel,
    KernelLook,
    Memory,
    MemoryLook,
    Network,
    Pressure,
    Processes,
    ProcessLook,
    SignedIn,
    SpaceLook,
    Uptime,
    Users,
    is_storage,
    kernel_look,
)

PAGE = os.sysconf("SC_PAGE_SIZE")
TICK = os.sysconf("SC_CLK_TCK")


def _cpu() -> CpuLook:
    times = psutil.cpu_times(percpu=True)
    return CpuLook([[getattr(t, mode, None) for mode in CPU_MODES] for t in times], os.getloadavg())


def _memory() -> MemoryLook:
    m, swap = psutil.virtual_memory(), psutil.swap_memory()
    return MemoryLook(
        m.total,
        m.available,
        m.free,
        getattr(m, "buffers", 0),
        getattr(m, "cached", 0),
        swap.total,
        swap.free,
        swap.sin / PAGE,
        swap.sout / PAGE,
    )


def _mounted() -> list[Any]:
    """What is mounted, each device once: a bind mount is the same space again, as df says too."""
    found: dict[str, Any] = {}
    for part in psutil.disk_partitions(all=True):
        if is_storage(part.fstype, part.mountpoint) and os.path.isdir(part.mountpoint):
            key = part.device if part.device.startswith("/dev/") else part.mountpoint
            held = found.get(key)
            if held is None or len(part.mountpoint) < len(held.mountpoint):
                found[key] = part
    return list(found.values())


def _space() -> Iterator[SpaceLook]:
    for part in _mounted():
        try:
            s = os.statvfs(part.mountpoint)
        except OSError:
            # Unmounted between the two calls, or not ours to look at.
            continue
        yield SpaceLook(
            part.device,
            part.mountpoint,
            part.fstype,
            "ro" in part.opts.split(","),
            size=s.f_blocks * s.f_frsize,
            used=(s.f_blocks - s.f_bfree) * s.f_frsize,
            free=s.f_bavail * s.f_frsize,
            inodes=s.f_files,
            inodes_free=s.f_ffree,
        )


def _disks() -> Iterator[DiskLook]:
    for device, c in (psutil.disk_io_counters(perdisk=True) or {}).items():
        yield DiskLook(
            device,
            (float(c.read_bytes), float(c.read_count), c.read_time / 1000),
            (float(c.write_bytes), float(c.write_count), c.write_time / 1000),
            c.busy_time / 1000 if hasattr(c, "busy_time") else None,
        )


def _cards() -> Iterator[CardLook]:
    for name, c in psutil.net_io_counters(pernic=True).items():
        yield CardLook(
            name,
            (float(c.bytes_recv), float(c.packets_recv), float(c.errin), float(c.dropin)),
            (float(c.bytes_sent), float(c.packets_sent), float(c.errout), float(c.dropout)),
        )


def _processes() -> tuple[float, list[ProcessLook]]:
    """Reads /proc/PID/stat itself: one small file a process, where psutil would open several."""
    moment = time.monotonic()
    found = []
    for pid in psutil.pids():
        try:
            with open(f"/proc/{pid}/stat", "rb") as file:
                found.append(procfs.process(file.read(2048), TICK, PAGE))
        except (OSError, ValueError, IndexError):
            continue
    return moment, found


def _name_of(pid: int) -> tuple[str, str]:
    try:
        process = psutil.Process(pid)
        return process.name(), process.username()
    except (psutil.Error, OSError, KeyError):
        return f"pid {pid}", ""


def processes() -> Processes:
    """The collector of processes, whose evidence somebody has to take."""
    return Processes(_processes, _name_of)


def _pressure() -> dict[str, str]:
    found = {}
    for resource in ("cpu", "memory", "io"):
        text = _said(f"/proc/pressure/{resource}")
        if text:
            found[resource] = text
    return found


def _said(path: str) -> str:
    try:
        with open(path, encoding="ascii", errors="replace") as file:
            return file.read(65_536)
    except OSError:
        return ""


def _kernel() -> KernelLook:
    return kernel_look(
        _said("/proc/stat"),
        _said("/proc/vmstat"),
        _said("/proc/sys/fs/file-nr"),
        f"{_said('/proc/sys/net/netfilter/nf_conntrack_count')} {_said('/proc/sys/net/netfilter/nf_conntrack_max')}",
        _said("/proc/sys/kernel/random/entropy_avail"),
    )


def _signed_in() -> list[SignedIn]:
    return [SignedIn(u.name, u.terminal or "", u.host or "", u.started) for u in psutil.users()]


def users(busiest: Processes) -> Users:
    """The collector of who is signed in, and of what the busiest processes' users take."""
    return Users(_signed_in, lambda: busiest.busiest)


def system_collectors() -> list[Collector]:
    """A collector of each kind but `Processes` and `Users`."""
    return [
        Pressure(_pressure),
        Kernel(_kernel),
        Cpu(_cpu),
        Memory(_memory),
        Filesystems(_space),
        Disks(_disks),
        Network(_cards),
        Uptime(lambda now: now - psutil.boot_time()),
    ]
