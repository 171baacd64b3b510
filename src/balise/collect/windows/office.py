"""A stand-in for a Windows-like system: a ticket office with a printer, made up from how busy it is."""

from __future__ import annotations

import random
from bisect import bisect_right
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from balise.collect.system import SpaceLook
from balise.collect.windows.system import TICKS, ChannelEvent, ServiceLook

EVERY = 300
"""Seconds a record of a channel on average."""
FAILS_EVERY, FAILS_FOR = 5 * 3600, 20
"""The printing service ends by itself now and then, and is started again after some seconds."""
_SAID: Mapping[str, tuple[tuple[int, str, int, str], ...]] = {
    "System": (
        (4, "Services", 7036, "Ticket printing is running"),
        (3, "Print", 4, "Printer counter-{c} is low on paper"),
        (4, "Time", 37, "The clock is kept by 203.0.113.3"),
    ),
    "Application": (
        (4, "TicketDesk", 100, "Sale {n} printed at counter {c}"),
        (3, "TicketDesk", 150, "Sale {n} took {ms} ms to be confirmed by booking"),
        (2, "TicketDesk", 201, "Sale {n}: the card terminal at counter {c} did not answer within 30 s"),
    ),
    "Security": (
        (0, "Security", 4624, "desk{c} signed in at the counter"),
        (0, "Security", 4625, "desk{c} was refused: wrong password"),
    ),
}


@dataclass(frozen=True)
class Busyness:
    """How busy the office is at a moment: bytes a second; of the others the share that is used."""

    processors: float
    memory: float
    received: float
    sent: float
    read: float
    written: float
    disk: float
    volume: float


class TicketOffice:
    """One made-up system. Its counters only ever grow; the same moment always has the same events.

    Args:
        started: when it was, unix seconds; its counters begin to grow when it is first asked.
        busy: how busy it is at a moment, unix seconds.
        clock: the time, unix seconds.
    """

    def __init__(
        self,
        name: str,
        *,
        cores: int,
        memory: int,
        volume: int,
        started: float,
        busy: Callable[[float], Busyness],
        clock: Callable[[], float],
    ) -> None:
        self._name = name
        self._cores = cores
        self.memory = memory
        self._volume = volume
        self._busy = busy
        self._clock = clock
        self._started = started
        self._at = clock()
        self._sums: dict[str, float] = {}
        self._advance()

    def _advance(self) -> Busyness:
        """Lets the counters grow up to now."""
        now = self._clock()
        b, passed = self._busy(now), max(0.0, now - self._at)
        self._at = max(self._at, now)
        used, moved = b.processors * passed * TICKS, max(b.read + b.written, 1.0)
        grown = {
            "% User Time": used * 0.72, "% Privileged Time": used * 0.28, "% Interrupt Time": used * 0.02,
            "% DPC Time": used * 0.01, "% Idle Time": passed * TICKS - used,
            "Disk Read Bytes/sec": b.read * passed, "Disk Reads/sec": b.read * passed / 9000,
            "% Disk Read Time": b.disk * b.read / moved * passed * TICKS,
            "Disk Write Bytes/sec": b.written * passed, "Disk Writes/sec": b.written * passed / 9000,
            "% Disk Write Time": b.disk * b.written / moved * passed * TICKS,
            "% Disk Time": b.disk * passed * TICKS,
            "Bytes Received/sec": b.received * passed, "Packets Received/sec": b.received * passed / 700,
            "Bytes Sent/sec": b.sent * passed, "Packets Sent/sec": b.sent * passed / 900,
        }  # fmt: skip
        for name, more in grown.items():
            self._sums[name] = self._sums.get(name, 0.0) + more
        return b

    def counters(self, of: str, counter: str) -> Mapping[str, float]:
        b = self._advance()
        if of == "Processor":
            share = self._sums.get(counter, 0.0)
            return {**{str(n): share for n in range(self._cores)}, "_Total": share}
        if of == "PhysicalDisk":
            return {"0 C:": float(int(self._sums.get(counter, 0.0)))}
        if of == "Network Interface":
            return {"Ethernet": float(int(self._sums.get(counter, 0.0)))}
        if of == "Process":
            return {name: values[counter] for name, values in self._processes(b).items()}
        used = b.memory * self.memory
        one = {
            "Available Bytes": self.memory - used,
            "Free & Zero Page List Bytes": (self.memory - used) * 0.3,
            "Cache Bytes": (self.memory - used) * 0.6,
            "Commit Limit": self.memory * 1.25,
            "Committed Bytes": used * 1.05,
            "System Up Time": self._started,
        }
        return {"": one.get(counter, 0.0)}

    def _processes(self, b: Busyness) -> dict[str, dict[str, float]]:
        """A desk program for each counter, the printing service, and the system's own."""
        worked = self._sums["% User Time"] * self._cores
        shares = {"TicketDesk": 0.5, "TicketDesk#1": 0.3, "TicketPrint": 0.12, "svchost": 0.08}
        return {
            name: {
                "ID Process": 400.0 + 4 * number,
                "% Processor Time": worked * share,
                "Working Set": float(int(b.memory * self.memory * share * 0.8)),
                "Elapsed Time": self._started,
            }
            for number, (name, share) in enumerate(shares.items())
        }

    def volumes(self) -> Sequence[SpaceLook]:
        used = int(self._busy(self._clock()).volume * self._volume)
        return [SpaceLook("C:", "C:", "NTFS", False, self._volume, used, self._volume - used)]

    def services(self) -> Sequence[ServiceLook]:
        into, failures = self._printing()
        down = into < FAILS_FOR
        return [
            ServiceLook("EventLog", "running", "automatic"),
            ServiceLook("Spooler", "running", "automatic"),
            ServiceLook("TicketDesk", "running", "automatic"),
            ServiceLook("TicketPrint", "stopped" if down else "running", "automatic", 1067 if down else 0, failures),
            ServiceLook("RemoteRegistry", "stopped", "disabled"),
        ]

    def _printing(self) -> tuple[float, int]:
        """Seconds since the printing service ended last, and how often it did since the start."""
        failures, into = divmod(self._clock() - self._started, FAILS_EVERY)
        return (into, int(failures)) if failures else (FAILS_FOR, 0)

    def events(self, channel: str, after: int, most: int) -> Sequence[ChannelEvent]:
        """Records are numbered by when they come, so that any moment has the same ones."""
        last = int((self._clock() - self._started) // EVERY)
        if after < 0:
            return [self._event(channel, last)]
        first = max(after + 1, last - 10_000)
        return [self._event(channel, n) for n in range(first, min(last, first + most - 1) + 1)]

    def _event(self, channel: str, record: int) -> ChannelEvent:
        chance = random.Random(f"{self._name} {channel} {record}")  # noqa: S311  a made-up day
        said = _SAID.get(channel, ())
        if not said:
            return ChannelEvent(record, self._started + record * EVERY, 4, channel, 0, "")
        # The first is what is usual; what comes after it is rarer each time.
        level, provider, number, text = said[min(bisect_right([0.75, 0.95], chance.random()), len(said) - 1)]
        counter = chance.randrange(1, 4)
        message = text.format(n=chance.randrange(1000, 99_999), c=counter, ms=chance.randrange(900, 4000))
        at = self._started + record * EVERY
        if channel != "Security":
            return ChannelEvent(record, at, level, provider, number, message)
        desk, place = f"desk{counter}", f"192.0.2.{200 + counter}"
        return ChannelEvent(record, at, level, provider, number, message, number == 4625, desk, place)
