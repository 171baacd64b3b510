"""The collectors of a Windows-like system: those of every system, looking at its counters."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

from balise.api.events import Severity
from balise.api.sources import SourceState
from balise.collect.processes import Processes, ProcessLook
from balise.collect.readings import Collector, Found, LogLine, Meaning, Reading
from balise.collect.system import (
    CardLook,
    Cpu,
    CpuLook,
    DiskLook,
    Disks,
    Filesystems,
    Memory,
    MemoryLook,
    Network,
    Uptime,
)
from balise.collect.units import UnitLook, Units
from balise.collect.windows.system import TICKS, ChannelEvent, ServiceLook, WindowsSystem

CHANNELS = ("System", "Application", "Security")
MOST_EVENTS = 500
WHOLE = "_Total"
"""The instance that adds up all others."""
LEVELS: Mapping[int, Severity] = {1: "critical", 2: "error", 3: "warning", 4: "informational", 5: "debug"}


class Counters:
    """A system's performance counters, as `collect.system` wants to see a system."""

    def __init__(self, system: WindowsSystem, monotonic: Callable[[], float]) -> None:
        self._system = system
        self._monotonic = monotonic

    def _each(self, of: str, *names: str) -> dict[str, list[float]]:
        """Several counters side by side, by instance."""
        columns = [self._system.counters(of, name) for name in names]
        instances = [i for i in columns[0] if i != WHOLE]
        return {i: [column.get(i, 0.0) for column in columns] for i in instances}

    def cpu(self) -> CpuLook:
        """Time in privileged mode holds that of interrupts; there is no load average."""
        times = self._each(
            "Processor", "% User Time", "% Privileged Time", "% Idle Time", "% Interrupt Time", "% DPC Time"
        )
        cores: list[list[float | None]] = []
        for name in sorted(times, key=lambda i: (len(i), i)):
            user, privileged, idle, interrupt, deferred = (ticks / TICKS for ticks in times[name])
            system = max(0.0, privileged - interrupt - deferred)
            cores.append([user, None, system, idle, None, interrupt, deferred, None])
        return CpuLook(cores, None)

    def memory(self) -> MemoryLook:
        def one(of: str, name: str) -> float:
            return next(iter(self._system.counters(of, name).values()), 0.0)

        available, cache = int(one("Memory", "Available Bytes")), int(one("Memory", "Cache Bytes"))
        limit, committed = int(one("Memory", "Commit Limit")), int(one("Memory", "Committed Bytes"))
        total = self._system.memory
        swap = max(0, limit - total)
        return MemoryLook(
            total=total,
            available=available,
            free=int(one("Memory", "Free & Zero Page List Bytes")),
            buffers=0,
            cached=cache,
            swap_total=swap,
            swap_free=swap - min(swap, max(0, committed - (total - available))),
            swapped_in=one("Memory", "Pages Input/sec"),
            swapped_out=one("Memory", "Pages Output/sec"),
        )

    def disks(self) -> Iterator[DiskLook]:
        found = self._each(
            "PhysicalDisk", "Disk Read Bytes/sec", "Disk Reads/sec", "% Disk Read Time",
            "Disk Write Bytes/sec", "Disk Writes/sec", "% Disk Write Time", "% Disk Time",
        )  # fmt: skip
        for name, n in found.items():
            yield DiskLook(name, (n[0], n[1], n[2] / TICKS), (n[3], n[4], n[5] / TICKS), n[6] / TICKS)

    def cards(self) -> Iterator[CardLook]:
        found = self._each(
            "Network Interface",
            "Bytes Received/sec", "Packets Received/sec", "Packets Received Errors", "Packets Received Discarded",
            "Bytes Sent/sec", "Packets Sent/sec", "Packets Outbound Errors", "Packets Outbound Discarded",
        )  # fmt: skip
        for name, n in found.items():
            yield CardLook(name, (n[0], n[1], n[2], n[3]), (n[4], n[5], n[6], n[7]))

    def uptime(self, now: float) -> float:
        """The counter holds the moment of the start, unix seconds."""
        return max(0.0, now - next(iter(self._system.counters("System", "System Up Time").values()), now))

    def processes(self) -> tuple[float, list[ProcessLook]]:
        """Instances of one program are called NAME, NAME#1, NAME#2."""
        found = self._each("Process", "ID Process", "% Processor Time", "Working Set", "Elapsed Time")
        return self._monotonic(), [
            ProcessLook(int(n[0]), int(n[3]), "S", n[1] / TICKS, int(n[2]), name.partition("#")[0])
            for name, n in found.items()
            if name != "Idle"
        ]


def unit_of(service: ServiceLook) -> UnitLook:
    """A service as a unit: one that starts by itself and does not run has failed."""
    if service.state == "running":
        state = "active"
    elif service.state in ("starting", "stopping", "paused"):
        state = "activating"
    else:
        state = "failed" if service.start == "automatic" else "inactive"
    result = f"exit code {service.exit_code}" if service.exit_code else ""
    return UnitLook(service.name, state, result, float(service.restarts))


class Channels:
    """Event channels, each followed from where one left off.

    Args:
        positions: the number of the last record read, by channel.
    """

    name = "channels"
    meanings = {
        "balise.channel.events": Meaning("{event}", "counter", "Records read of an event channel"),
    }

    def __init__(
        self, system: WindowsSystem, channels: Sequence[str] = CHANNELS, positions: Mapping[str, int] | None = None
    ) -> None:
        self._system = system
        self._channels = channels
        self.positions = dict(positions or {})
        self._counts = dict.fromkeys(channels, 0)
        self._last_at: dict[str, float] = {}
        self._problems: dict[str, str] = {}

    def read(self, now: float) -> Iterator[Found]:
        del now
        for channel in self._channels:
            try:
                events = self._new(channel)
            except OSError as error:
                # One that cannot be read says so, and keeps nothing from the others.
                self._problems[channel] = str(error.strerror or error)
                continue
            self._problems.pop(channel, None)
            for event in events:
                self.positions[channel] = event.record
                self._counts[channel] += 1
                self._last_at[channel] = event.time
                yield _line(channel, event)
        for channel, count in self._counts.items():
            yield Reading("balise.channel.events", float(count), {"windows.channel": channel})

    def _new(self, channel: str) -> Sequence[ChannelEvent]:
        """What came since it was read last; nothing the first time. Raises OSError."""
        if channel in self.positions:
            return self._system.events(channel, self.positions[channel], MOST_EVENTS)
        newest = self._system.events(channel, -1, 1)
        self.positions[channel] = newest[-1].record if newest else 0
        return []

    def sources(self) -> list[dict[str, Any]]:
        """How reading each channel goes, as sources tell it."""
        return [self._source(channel) for channel in self._channels]

    def _source(self, channel: str) -> dict[str, Any]:
        problem, lines = self._problems.get(channel), self._counts[channel]
        status: SourceState = "unreadable" if problem else "following" if self.positions.get(channel) else "empty"
        detail = problem or ("an event channel" if status == "following" else "nothing is written to it yet")
        told = {"path": channel, "kind": "channel", "status": status, "detail": detail}
        return {**told, "lines": lines, "total_lines": lines, "last_at": self._last_at.get(channel)}


def _line(channel: str, event: ChannelEvent) -> LogLine:
    severity: Severity = "warning" if event.audit_failure else LEVELS.get(event.level, "informational")
    named = {
        "windows.channel": channel,
        "windows.event_id": str(event.number),
        "log.record.uid": f"{channel} {event.record}",
    }
    about = {"user.name": event.account, "client.address": event.address, "group.name": event.group}
    named |= {name: value for name, value in about.items() if value}
    return LogLine(event.time, event.message, severity, event.provider, named)


def windows_collectors(
    system: WindowsSystem,
    positions: Mapping[str, int] | None = None,
    monotonic: Callable[[], float] = time.monotonic,
) -> list[Collector]:
    """A collector of each kind."""
    counters = Counters(system, monotonic)
    return [
        Cpu(counters.cpu),
        Memory(counters.memory),
        Filesystems(system.volumes),
        Disks(counters.disks),
        Network(counters.cards),
        Uptime(counters.uptime),
        Processes(counters.processes),
        Units(lambda: [unit_of(service) for service in system.services()]),
        Channels(system, positions=positions),
    ]
