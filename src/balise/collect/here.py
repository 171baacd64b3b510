"""This machine, as `collect.system` wants to see it: by psutil and /proc."""

from __future__ import annotations

import os
import pwd
import time
from collections.abc import Iterator
from dataclasses import replace
from functools import lru_cache
from typing import Any

import psutil

from balise.collect import procfs
from balise.collect.commands import told_command
from balise.collect.files import said
from balise.collect.linux.kernel import Kernel, KernelLook, Pressure, kernel_look
from balise.collect.processes import ProcessAbout, Processes, ProcessLook, SignedIn, Users
from balise.collect.readings import Collector
from balise.collect.system import (
    CPU_MODES,
    CardLook,
    Cpu,
    CpuLook,
    DiskLook,
    Disks,
    Filesystems,
    Memory,
    MemoryLook,
    Network,
    SpaceLook,
    Uptime,
    is_storage,
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
                owner = user_name(os.fstat(file.fileno()).st_uid)
                found.append(procfs.process(file.read(2048), TICK, PAGE, owner))
        except (OSError, ValueError, IndexError):
            continue
    return moment, found


def begun() -> dict[str, int]:
    """When the first process of each name was started, in the kernel's ticks since its own start."""
    found: dict[str, int] = {}
    for process in _processes()[1]:
        found[process.name] = min(process.started, found.get(process.name, process.started))
    return found


@lru_cache(maxsize=1000)
def user_name(number: int) -> str:
    """The account of a number; the number itself where there is none."""
    try:
        return pwd.getpwuid(number).pw_name
    except KeyError:
        return str(number)


def _about(process: ProcessLook, before: ProcessAbout | None) -> ProcessAbout:
    """What else is known of a process. The kernel keeps 15 letters of a name; psutil finds the rest."""
    folder = f"/proc/{process.pid}"
    counted = dict(line.split(": ", 1) for line in said(f"{folder}/io").splitlines() if ": " in line)
    io = float(counted["read_bytes"]) + float(counted["write_bytes"]) if "write_bytes" in counted else None
    if before is not None:
        return replace(before, io=io)
    try:
        name = psutil.Process(process.pid).name()
    except (psutil.Error, OSError):
        name = process.name
    words = [word for word in said(f"{folder}/cmdline").split("\0") if word]
    booted = time.time() - time.clock_gettime(time.CLOCK_BOOTTIME)
    unit = procfs.unit_of(said(f"{folder}/cgroup"))
    return ProcessAbout(name, told_command(words), unit, io, booted + process.started / TICK)


def _pressure() -> dict[str, str]:
    found = {}
    for resource in ("cpu", "memory", "io"):
        text = said(f"/proc/pressure/{resource}")
        if text:
            found[resource] = text
    return found


def _kernel() -> KernelLook:
    return kernel_look(
        said("/proc/stat"),
        said("/proc/vmstat"),
        said("/proc/sys/fs/file-nr"),
        f"{said('/proc/sys/net/netfilter/nf_conntrack_count')} {said('/proc/sys/net/netfilter/nf_conntrack_max')}",
        said("/proc/sys/kernel/random/entropy_avail"),
    )


def _signed_in(_now: float) -> list[SignedIn]:
    return [
        SignedIn(u.name, u.terminal or "", u.host or "", u.started, procfs.terminal_device(u.terminal or ""))
        for u in psutil.users()
    ]


def system_collectors() -> list[Collector]:
    """What is quick to read and read at every turn, each part of the system once."""
    processes = Processes(_processes, _about)
    return [
        Pressure(_pressure),
        Kernel(_kernel),
        Cpu(_cpu),
        Memory(_memory),
        Filesystems(_space),
        Disks(_disks),
        Network(_cards),
        Uptime(lambda now: now - psutil.boot_time()),
        processes,
        Users(_signed_in, processes),
    ]
