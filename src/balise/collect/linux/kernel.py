"""What Linux's kernel tells of itself: pressure, counts, tables that can run full, interrupts by kind."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass

from balise.collect.readings import Meaning, Reading


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
