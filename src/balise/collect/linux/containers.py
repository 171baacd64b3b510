"""Containers by their control groups (cgroups(7), cgroup-v2.rst), whichever engine made them."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from pathlib import Path

from balise.collect.files import said
from balise.collect.readings import Meaning, Reading

ROOT = "/sys/fs/cgroup"
MOST_CONTAINERS = 200
MOST_FOLDERS = 5000
DEEPEST = 10
_NAMES = (
    re.compile(r"(?:[a-z-]+[-:])?(?P<id>[0-9a-f]{32,64})(?:\.scope)?"),
    re.compile(r"machine-(?P<id>[^.]+)\.scope"),
    re.compile(r"lxc\.payload\.(?P<id>.+)"),
)
NO_LIMIT = 1 << 60


def container_id(folder: str) -> str:
    """What a control group's name says of the container in it; empty for one that is no container's.

    >>> container_id("machine-till.scope")
    'till'
    """
    return next((found["id"] for name in _NAMES if (found := name.fullmatch(folder))), "")


class Containers:
    """What containers take. Reads both versions of control groups.

    Args:
        root: where control groups are mounted.
    """

    name = "containers"
    meanings = {
        "container.cpu.time": Meaning("s", "counter", "Processor time a container used"),
        "container.memory.usage": Meaning("By", "gauge", "Memory a container holds"),
        "balise.container.memory.limit": Meaning("By", "gauge", "Memory a container may hold"),
        "container.disk.io": Meaning("By", "counter", "Bytes a container read and wrote"),
        "balise.container.processes": Meaning("{process}", "gauge", "Processes and threads in a container"),
        "balise.container.held_back": Meaning(
            "s", "counter", "Time in which a container was not let run, for its limit"
        ),
        "balise.container.killed_for_memory": Meaning(
            "{process}", "counter", "Processes of a container ended because its memory ran out"
        ),
    }

    def __init__(self, root: str = ROOT) -> None:
        self._root = Path(root)

    def read(self, now: float) -> Iterator[Reading]:
        del now
        if (self._root / "cgroup.controllers").exists():
            for path, name in self._found(self._root):
                yield from self._second(path, self._named(path, name))
            return
        for path, name in self._found(self._root / "memory"):
            inside = path.relative_to(self._root / "memory")
            yield from self._first(inside, self._named(path, name))

    def _found(self, top: Path) -> Iterator[tuple[Path, str]]:
        """Control groups of containers below a folder; those within a container are its own business."""
        looked, count = 0, 0
        waiting = [(top, 0)]
        while waiting and looked < MOST_FOLDERS:
            folder, depth = waiting.pop()
            looked += 1
            try:
                inside = sorted(entry.path for entry in os.scandir(folder) if entry.is_dir(follow_symlinks=False))
            except OSError:
                continue
            for path in map(Path, inside):
                name = path.name if folder.name == "lxc" else container_id(path.name)
                if name and count < MOST_CONTAINERS:
                    count += 1
                    yield path, name
                elif not name and depth < DEEPEST:
                    waiting.append((path, depth + 1))

    @staticmethod
    def _named(path: Path, name: str) -> dict[str, str]:
        """A container is known by its number and by the name of its first process."""
        first = said(str(path / "cgroup.procs")).split("\n", 1)[0]
        program = said(f"/proc/{first}/comm").strip() if first.isdecimal() else ""
        return {"container.id": name[:12] if len(name) >= 32 else name, "process.executable.name": program}

    def _second(self, path: Path, named: dict[str, str]) -> Iterator[Reading]:
        """Version 2: one folder has everything."""
        cpu = _pairs(said(str(path / "cpu.stat")))
        if "usage_usec" in cpu:
            yield Reading("container.cpu.time", cpu["usage_usec"] / 1e6, named)
        if cpu.get("throttled_usec"):
            yield Reading("balise.container.held_back", cpu["throttled_usec"] / 1e6, named)
        yield from _memory(said(str(path / "memory.current")), said(str(path / "memory.max")), named)
        killed = _pairs(said(str(path / "memory.events"))).get("oom_kill", 0.0)
        yield Reading("balise.container.killed_for_memory", killed, named)
        sums = {"rbytes": 0.0, "wbytes": 0.0}
        for line in said(str(path / "io.stat")).splitlines():
            for key, _, value in (word.partition("=") for word in line.split()[1:]):
                if key in sums and value.isdecimal():
                    sums[key] += float(value)
        yield from _moved(sums["rbytes"], sums["wbytes"], named)
        yield from _number("balise.container.processes", said(str(path / "pids.current")), named)

    def _first(self, inside: Path, named: dict[str, str]) -> Iterator[Reading]:
        """Version 1: a tree for each controller (cgroup-v1/)."""

        def told(controller: str, file: str) -> str:
            return said(str(self._root / controller / inside / file))

        used = told("cpuacct", "cpuacct.usage").strip()
        if used.isdecimal():
            yield Reading("container.cpu.time", float(used) / 1e9, named)
        held_back = _pairs(told("cpu", "cpu.stat")).get("throttled_time", 0.0)
        if held_back:
            yield Reading("balise.container.held_back", held_back / 1e9, named)
        yield from _memory(told("memory", "memory.usage_in_bytes"), told("memory", "memory.limit_in_bytes"), named)
        killed = _pairs(told("memory", "memory.oom_control")).get("oom_kill", 0.0)
        yield Reading("balise.container.killed_for_memory", killed, named)
        sums = {"Read": 0.0, "Write": 0.0}
        for line in told("blkio", "blkio.throttle.io_service_bytes").splitlines():
            words = line.split()
            if len(words) == 3 and words[1] in sums and words[2].isdecimal():
                sums[words[1]] += float(words[2])
        yield from _moved(sums["Read"], sums["Write"], named)
        yield from _number("balise.container.processes", told("pids", "pids.current"), named)


def _pairs(text: str) -> dict[str, float]:
    """Lines of a name and a number."""
    words = (line.split() for line in text.splitlines())
    return {w[0]: float(w[1]) for w in words if len(w) == 2 and w[1].isdecimal()}


def _number(metric: str, text: str, named: dict[str, str]) -> Iterator[Reading]:
    if text.strip().isdecimal():
        yield Reading(metric, float(text), named)


def _memory(used: str, limit: str, named: dict[str, str]) -> Iterator[Reading]:
    yield from _number("container.memory.usage", used, named)
    if limit.strip().isdecimal() and float(limit) < NO_LIMIT:
        yield Reading("balise.container.memory.limit", float(limit), named)


def _moved(read: float, written: float, named: dict[str, str]) -> Iterator[Reading]:
    for direction, size in (("read", read), ("write", written)):
        yield Reading("container.disk.io", size, {**named, "disk.io.direction": direction})
