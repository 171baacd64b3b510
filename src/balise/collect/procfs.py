"""The texts of Linux's /proc and of POSIX `df`, read into what collectors look at.

Every function takes what some machine said, maybe a hostile one: what cannot be read is left out, or raises
ValueError when nothing is left.
"""

from __future__ import annotations

import calendar
import re
import time
from collections.abc import Iterator

from balise.collect.processes import ProcessLook, SignedIn
from balise.collect.system import CPU_MODES, CardLook, CpuLook, DiskLook, MemoryLook, SpaceLook, is_storage

SECTOR = 512
"""Bytes of a sector in /proc/diskstats, whatever the disk's own (iostats.rst)."""
MOST_CORES = 4096


def cpu(stat: str, loadavg: str, tick: int) -> CpuLook:
    """/proc/stat and /proc/loadavg (proc(5)); `tick` is the kernel's clock ticks a second."""
    cores: list[list[float | None]] = []
    for line in stat.splitlines():
        if line.startswith("cpu") and line[3:4].isdigit():
            counts = [int(part) / tick for part in line.split()[1 : 1 + len(CPU_MODES)]]
            # The columns of /proc/stat are in the order of CPU_MODES; old kernels tell fewer.
            cores.append([*counts, *[None] * (len(CPU_MODES) - len(counts))])
    if not cores:
        raise ValueError("/proc/stat names no processor")
    one, five, fifteen = (float(part) for part in loadavg.split()[:3])
    return CpuLook(cores[:MOST_CORES], (one, five, fifteen))


def memory(meminfo: str, vmstat: str) -> MemoryLook:
    """/proc/meminfo (kibibytes) and the swap lines of /proc/vmstat (pages)."""
    sizes = {
        name: int(rest.split()[0]) * 1024
        for name, _, rest in (line.partition(":") for line in meminfo.splitlines())
        if rest.strip()
    }
    if not sizes.get("MemTotal"):
        raise ValueError("/proc/meminfo names no MemTotal")
    swapped = dict(line.split()[:2] for line in vmstat.splitlines() if len(line.split()) >= 2)
    free = sizes.get("MemFree", 0)
    cached = sizes.get("Cached", 0) + sizes.get("SReclaimable", 0)
    return MemoryLook(
        total=sizes["MemTotal"],
        # Before Linux 3.14 there is no MemAvailable: what is free or cached is its nearest kin.
        available=sizes.get("MemAvailable", free + sizes.get("Buffers", 0) + cached),
        free=free,
        buffers=sizes.get("Buffers", 0),
        cached=cached,
        swap_total=sizes.get("SwapTotal", 0),
        swap_free=sizes.get("SwapFree", 0),
        swapped_in=float(swapped.get("pswpin", 0)),
        swapped_out=float(swapped.get("pswpout", 0)),
    )


def space(mounts: str, blocks: str, inodes: str) -> Iterator[SpaceLook]:
    """/proc/mounts, `df -P -k` and `df -P -i` (POSIX.1 df, -P)."""
    kinds = mounted(mounts)
    held = dict(_df(inodes))
    for mountpoint, (size, used, free) in _df(blocks):
        device, kind, read_only = kinds.get(mountpoint, ("", "", False))
        if kind and is_storage(kind, mountpoint):
            total, _, left = held.get(mountpoint, (0, 0, 0))
            sizes = (size * 1024, used * 1024, free * 1024)
            yield SpaceLook(device, mountpoint, kind, read_only, *sizes, inodes=total, inodes_free=left)


def mounted(mounts: str) -> dict[str, tuple[str, str, bool]]:
    """/proc/mounts: by place the device, the type, and whether nothing can be written there."""
    rows = (line.split() for line in mounts.splitlines())
    return {
        _unescaped(part[1]): (_unescaped(part[0]), part[2], "ro" in part[3].split(","))
        for part in rows
        if len(part) >= 4
    }


def _df(text: str) -> Iterator[tuple[str, tuple[int, int, int]]]:
    for line in text.splitlines():
        # The device's name may hold blanks, so the numbers are found from the percentage on.
        part = line.split()
        at = next((i for i, word in enumerate(part) if i >= 4 and (word.endswith("%") or word == "-")), None)
        if at is None or not all(word.isdigit() for word in part[at - 3 : at]):
            continue
        size, used, free = (int(word) for word in part[at - 3 : at])
        yield line.split(part[at], 1)[1].strip(), (size, used, free)


def _unescaped(text: str) -> str:
    """Blanks in /proc/mounts are octal escapes (getmntent(3))."""
    for escaped, plain in ((r"\040", " "), (r"\011", "\t"), (r"\012", "\n"), (r"\134", "\\")):
        text = text.replace(escaped, plain)
    return text


def disks(diskstats: str) -> Iterator[DiskLook]:
    """/proc/diskstats (iostats.rst), disks and their partitions."""
    for line in diskstats.splitlines():
        part = line.split()
        if len(part) < 14:
            continue
        n = [float(word) for word in part[3:14]]
        yield DiskLook(part[2], (n[2] * SECTOR, n[0], n[3] / 1000), (n[6] * SECTOR, n[4], n[7] / 1000), n[9] / 1000)


def cards(dev: str) -> Iterator[CardLook]:
    """/proc/net/dev (proc(5))."""
    for line in dev.splitlines():
        name, sign, rest = line.rpartition(":")
        part = rest.split()
        if sign and len(part) >= 12 and part[0].isdigit():
            n = [float(word) for word in part]
            yield CardLook(name.strip(), (n[0], n[1], n[2], n[3]), (n[8], n[9], n[10], n[11]))


def process(stat: bytes, tick: int, page: int, owner: str = "") -> ProcessLook:
    """One line of /proc/PID/stat; the name in it may hold blanks and parentheses."""
    begin, end = stat.index(b"("), stat.rfind(b")")
    part = stat[end + 2 :].split()
    return ProcessLook(
        int(stat[: stat.index(b" ")]),
        int(part[19]),
        part[0].decode(),
        (int(part[11]) + int(part[12])) / tick,
        int(part[21]) * page,
        stat[begin + 1 : end].decode("utf-8", "replace"),
        owner,
        max(0, int(part[4])),
        int(part[1]),
    )


def unit_of(cgroup: str) -> str:
    """The system's unit that a process belongs to, from /proc/PID/cgroup (cgroups(7)); empty for none.

    >>> unit_of("0::/system.slice/system-postgresql.slice/postgresql@15-main.service")
    'postgresql@15-main.service'
    """
    for line in cgroup.splitlines():
        for part in reversed(line.split(":", 2)[-1].split("/")):
            if part.endswith((".service", ".scope")):
                return part[:100]
    return ""


def processes(stats: str, owners: str, tick: int, page: int) -> list[ProcessLook]:
    """Many of these lines; `owners` has a line `USER /proc/PID` for each."""
    users = {pid: user for user, there, pid in (line.partition(" /proc/") for line in owners.splitlines()) if there}
    found: list[ProcessLook] = []
    for line in stats.splitlines():
        try:
            found.append(process(line.encode(), tick, page, users.get(line[: line.index(" ")], "")))
        except (ValueError, IndexError):
            # A name with a line break in it: its two halves are no process.
            continue
    return found


_WHO = re.compile(
    r"(?P<user>\S+)\s+(?P<terminal>\S+)\s+(?:(?P<day>\d{4}-\d\d-\d\d)|(?P<date>[A-Z][a-z]{2} [ \d]\d)) "
    r"(?P<time>\d\d:\d\d)(?: \((?P<origin>[^)]*)\))?"
)


def signed_in(who: str, now: float) -> Iterator[SignedIn]:
    """`TZ=UTC0 who` (POSIX.1): name, terminal, when, and from where. In the C locale the year is not told."""
    for line in who.splitlines():
        one = _WHO.match(line)
        if one is None:
            continue
        this_year = time.gmtime(now).tm_year
        days = [one["day"]] if one["day"] else [f"{this_year} {one['date']}", f"{this_year - 1} {one['date']}"]
        form = "%Y-%m-%d %H:%M" if one["day"] else "%Y %b %d %H:%M"
        try:
            found = [calendar.timegm(time.strptime(f"{day} {one['time']}", form)) for day in days]
        except ValueError:
            continue
        since = float(next((moment for moment in found if moment <= now + 86_400), found[-1]))
        yield SignedIn(one["user"], one["terminal"], one["origin"] or "", since, terminal_device(one["terminal"]))


def terminal_device(terminal: str) -> int:
    """The number of a terminal's device as /proc/PID/stat has it (proc(5); majors from Linux's devices.txt).

    >>> terminal_device("pts/3"), terminal_device("tty1"), terminal_device(":0")
    (34819, 1025, 0)
    """
    kind = terminal.rstrip("0123456789")
    major, first = {"pts/": (136, 0), "tty": (4, 0), "ttyS": (4, 64)}.get(kind, (0, 0))
    if not major or kind == terminal:
        return 0
    minor = first + int(terminal[len(kind) :])
    return minor & 0xFF | major << 8 | (minor & ~0xFF) << 12
