"""What every host of the fleet measures at any moment: a model with cause and effect, from one seed.

Load drives processors, processors drive latency, latency drives errors. Everything is a pure function of the
time, so history and live data are of one piece; only counters have to be added up by whoever asks.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal
from zlib import crc32

import numpy as np
from numpy.typing import NDArray

from balise.core.series.wire import Kind, PointKind
from balise.demo.fleet import GIB, OFFICE, Ship
from balise.demo.quirks import tale_of
from balise.demo.stories import HOUR, Schedule
from balise.demo.weight import Weight

F64 = NDArray[np.float64]
SEED = 0x5CE441
BOUNDS = (0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0)
"""Upper bounds of the request duration histogram, seconds."""


@dataclass(frozen=True)
class Measured:
    """One series over the times asked for. A counter's values are its growth a second."""

    metric: str
    values: F64
    attributes: Mapping[str, str] = field(default_factory=dict)
    part: str = ""
    kind: PointKind = "gauge"


METRICS: dict[str, tuple[str, Kind, str]] = {
    "system.cpu.utilization": ("1", "gauge", "Share of all CPU time spent in each mode since the last reading"),
    "balise.cpu.busy": ("1", "gauge", "Share of all CPU time that was not idle and not waiting for storage"),
    "system.cpu.logical.count": ("{cpu}", "gauge", "Logical processors"),
    "system.cpu.load_average.1m": ("{thread}", "gauge", "Threads that run or want to, mean over 1 minute"),
    "balise.cpu.load_per_core": ("1", "gauge", "Load of 1 minute over the number of logical processors"),
    "system.memory.usage": ("By", "gauge", "Memory by what it is used for"),
    "system.memory.utilization": ("1", "gauge", "Share of memory by what it is used for"),
    "system.memory.limit": ("By", "gauge", "Memory there is"),
    "system.paging.utilization": ("1", "gauge", "Share of swap space by state"),
    "system.filesystem.usage": ("By", "gauge", "Space of a mounted filesystem by state"),
    "system.filesystem.utilization": ("1", "gauge", "Share of the space that programs can use that is used"),
    "system.filesystem.limit": ("By", "gauge", "Space of a mounted filesystem"),
    "balise.filesystem.inodes.utilization": ("1", "gauge", "Share of the inodes in use"),
    "system.disk.io": ("By", "counter", "Bytes read from and written to a disk"),
    "system.disk.operations": ("{operation}", "counter", "Reads and writes of a disk"),
    "system.disk.io_time": ("s", "counter", "Seconds a disk was busy"),
    "system.network.io": ("By", "counter", "Bytes received and sent"),
    "system.network.errors": ("{error}", "counter", "Packets that were damaged"),
    "system.process.count": ("{process}", "gauge", "Processes by state"),
    "system.uptime": ("s", "gauge", "Seconds since the system started"),
    "postgresql.backends": ("{session}", "gauge", "Sessions of the database by state"),
    "postgresql.sessions.blocked": ("{session}", "gauge", "Sessions that wait for a lock another session holds"),
    "postgresql.transactions": ("{transaction}", "counter", "Transactions that were finished"),
    "postgresql.cache.hit_ratio": ("1", "gauge", "Share of the blocks read that were found in memory"),
    "http.server.request.duration": ("s", "histogram", "How long requests took to answer"),
    "http.server.request.errors": ("{request}", "counter", "Requests answered with an error of the server"),
    "jvm.memory.used": ("By", "gauge", "Heap in use"),
    "jvm.thread.busy": ("{thread}", "gauge", "Worker threads that are busy with a request"),
    "messaging.queue.depth": ("{message}", "gauge", "Messages that wait in the queue"),
    "gate.lookups.failed": ("{lookup}", "counter", "Ticket look-ups of a boarding gate that failed"),
    "jvm.gc.pause": ("s", "gauge", "Longest pause of the collector since the last reading"),
    "hw.fan.speed": ("1/min", "gauge", "Turns of a fan"),
    "hw.temperature": ("Cel", "gauge", "Temperature of a part"),
    "balise.signin.failed": ("{attempt}", "counter", "Attempts to sign in that failed"),
    "tls.certificate.remaining": ("s", "gauge", "Time until the certificate runs out"),
    "display.refresh.duration": ("s", "gauge", "Time that a display took to show what is new"),
    "display.refresh.failed": ("{refresh}", "counter", "Times that a display could not be brought up to date"),
    "gate.passengers": ("{passenger}", "counter", "Passengers that went through a gate"),
}


def _mix(values: NDArray[np.uint64]) -> NDArray[np.uint64]:
    """splitmix64: a well-spread number for every number."""
    with np.errstate(over="ignore"):
        z = values + np.uint64(0x9E3779B97F4A7C15)
        z = (z ^ (z >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        z = (z ^ (z >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        return z ^ (z >> np.uint64(31))


def _uniform(key: int, places: NDArray[np.int64]) -> F64:
    mixed = _mix(places.astype(np.uint64) ^ np.uint64(key))
    return (mixed >> np.uint64(11)).astype(np.float64) / float(1 << 53)


class Noise:
    """Chance that is the same whenever it is asked for."""

    def __init__(self, host: str, seed: int = 0) -> None:
        self._host = crc32(host.encode())
        self._seed = SEED + seed * 0x9E3779B1

    def _key(self, name: str) -> int:
        return ((crc32(name.encode()) << 32 | self._host) ^ self._seed) & 0xFFFFFFFFFFFFFFF

    def jitter(self, name: str, times: F64) -> F64:
        """About normal, mean 0, deviation 1, new every 15 s."""
        places = (times // 15).astype(np.int64)
        key = self._key(name)
        return (_uniform(key, places) + _uniform(key + 1, places) + _uniform(key + 2, places) - 1.5) * 2.0

    def drift(self, name: str, times: F64, period: float = 1800.0) -> F64:
        """Between -1 and 1, changing slowly."""
        place = times / period
        whole = np.floor(place).astype(np.int64)
        part = place - whole
        smooth = part * part * (3 - 2 * part)
        key = self._key(name)
        left, right = _uniform(key, whole), _uniform(key, whole + 1)
        return (left + (right - left) * smooth) * 2 - 1


def passengers(times: F64) -> F64:
    """How busy the ferries are, 0 to 1: mornings and evenings, a quiet night, fewer on Sundays."""
    hour = times % 86_400 / 3600
    day = (times // 86_400 + 4) % 7
    curve = 0.18 + 0.55 * np.exp(-(((hour - 8.2) / 2.1) ** 2)) + 0.62 * np.exp(-(((hour - 17.0) / 2.6) ** 2))
    curve = curve + 0.22 * np.exp(-(((hour - 12.5) / 2.0) ** 2))
    return np.clip(curve * np.where(day == 0, 0.7, 1.0), 0.05, 1.0)


Feel = Literal["root", "app", "web", "gate", ""]


class Model:
    """The fleet at any moment."""

    def __init__(self, schedule: Schedule, started: float, seed: int = 0) -> None:
        self.schedule = schedule
        self._seed = seed
        self.started = started
        self._booted = {"": started - 41 * 86_400.0}

    def measure(self, ship: Ship, times: F64) -> list[Measured]:
        """All series of a host; `times` in unix seconds, ascending [n], values [n] each."""
        noise = Noise(ship.name, self._seed)
        load = passengers(times) * (1 + 0.10 * noise.drift("load", times)) + 0.03 * noise.jitter("load", times)
        load = np.clip(load, 0.02, 1.2)
        weight = self.weight(ship, times, load)
        stuck = weight.stuck
        load = np.clip((load + weight.more) * (1 - weight.idle), 0.02, 1.6)
        work = np.clip(ship.pace * (0.25 + load), 0.01, 0.97)
        if ship.role == "database":
            work = np.clip(work + 0.11 * stuck, 0.01, 0.97)
        elif ship.role in ("application", "web"):
            work = work * (1 - 0.45 * stuck)
        work = np.clip(work + weight.cpu, 0.01, 0.97)
        out = [
            *self._processors(ship, times, work, weight, noise),
            *self._memory(ship, times, load, weight, noise),
            *self._volumes(ship, times, weight, noise),
            *self._traffic(ship, times, load, weight, noise),
            *self._service(ship, times, load, weight, noise),
        ]
        out.append(Measured("system.uptime", np.floor(times - self._booted[""] + crc32(ship.name.encode()) % 900_000)))
        return out

    def weight(self, ship: Ship, times: F64, load: F64) -> Weight:
        """What all that happens does to a host."""
        found = Weight(len(times))
        for one in self.schedule.around(float(times[0]) - HOUR, float(times[-1]) + HOUR) if len(times) else ():
            tale_of(one).weigh(ship, one, times, load, found)
        return found

    def _processors(self, ship: Ship, times: F64, work: F64, weight: Weight, noise: Noise) -> list[Measured]:
        wait = np.clip(0.012 + 0.008 * noise.jitter("iowait", times), 0.0, 0.3)
        if ship.role == "backup":
            hour = times % 86_400 / 3600
            wait = wait + 0.18 * ((hour > 1) & (hour < 4))
        wait = wait + weight.waiting
        system = np.clip(work * 0.24 + 0.006 * noise.jitter("system", times), 0.002, 1.0)
        user = np.clip(work * 0.74 + 0.014 * noise.jitter("user", times), 0.002, 1.0)
        busy = np.clip(user + system, 0.0, 0.995)
        parts = {"user": user, "system": system, "iowait": wait}
        stolen = np.zeros_like(times)
        if ship.machine:
            stolen = np.clip(weight.stolen + 0.002 * np.abs(noise.jitter("steal", times)), 0, 1 - busy)
            parts["steal"] = stolen
        parts["idle"] = np.clip(1 - busy - wait - stolen, 0.0, 1.0)
        out = [Measured("system.cpu.utilization", np.round(v, 4), {"cpu.mode": m}) for m, v in parts.items()]
        load = ship.cores * (busy + wait + 1.5 * stolen) * 1.08 + 0.1 * np.abs(noise.jitter("load1", times))
        out += [
            Measured("balise.cpu.busy", np.round(busy, 4)),
            Measured("system.cpu.logical.count", np.full_like(times, ship.cores)),
            Measured("system.cpu.load_average.1m", np.round(load, 2)),
            Measured("balise.cpu.load_per_core", np.round(load / ship.cores, 4)),
        ]
        return out

    @staticmethod
    def _memory(ship: Ship, times: F64, load: F64, weight: Weight, noise: Noise) -> list[Measured]:
        share = 0.46 + 0.10 * load + 0.03 * noise.drift("memory", times, 7200) + 0.004 * noise.jitter("memory", times)
        if ship.role == "database":
            share = share + 0.05 * weight.stuck
        share = np.clip(share + 0.3 * weight.heap, 0.05, 0.99)
        cached = np.clip(0.86 - share, 0.01, 1.0) * 0.8
        free = np.clip(1 - share - cached, 0.0, 1.0)
        page = 4096.0
        swapped: F64 = np.clip(0.02 + 0.01 * noise.drift("swap", times), 0.0, 1.0).astype(np.float64)
        out = []
        for state, part in (("used", share), ("cached", cached), ("free", free)):
            size = np.floor(part * ship.memory / page) * page
            out.append(Measured("system.memory.usage", size, {"system.memory.state": state}))
        out += [
            Measured("system.memory.utilization", np.round(share, 4), {"system.memory.state": "used"}),
            Measured("system.memory.limit", np.full(len(times), float(ship.memory), np.float64)),
            Measured("system.paging.utilization", np.round(swapped, 3),
                     {"system.paging.state": "used"}),
        ]  # fmt: skip
        return out

    def _volumes(self, ship: Ship, times: F64, weight: Weight, noise: Noise) -> list[Measured]:
        out = []
        for volume in ship.volumes:
            level = volume.level + 0.012 * noise.drift(volume.mountpoint, times, 86_400)
            level = level + 0.004 * (times % 86_400) / 86_400
            if volume.mountpoint == "/srv/backup":
                # Full in a fortnight or so, unless somebody notices.
                level = np.clip(level + 0.08 + 0.01 * (times - self.started) / 86_400, 0.3, 0.998)
            if volume.mountpoint in weight.full:
                level = np.minimum(level + weight.full[volume.mountpoint], 0.998)
            named = {
                "system.device": volume.device,
                "system.filesystem.mountpoint": volume.mountpoint,
                "system.filesystem.type": "NTFS" if ship.role == OFFICE else "ext4",
                "system.filesystem.mode": "rw",
            }
            used = np.floor(level * volume.size / 4096) * 4096
            out += [
                Measured("system.filesystem.usage", used, {**named, "system.filesystem.state": "used"}),
                Measured("system.filesystem.usage", volume.size - used, {**named, "system.filesystem.state": "free"}),
                Measured("system.filesystem.utilization", np.round(used / volume.size, 5), named),
                Measured("system.filesystem.limit", np.full_like(times, float(volume.size)), named),
                Measured("balise.filesystem.inodes.utilization", np.round(0.04 + 0.1 * level, 4), named),
            ]
        return out

    def _traffic(self, ship: Ship, times: F64, load: F64, weight: Weight, noise: Noise) -> list[Measured]:
        scale = {"web": 1.9e6, "database": 1.4e6, "hypervisor": 6e6, "files": 2.2e6, "backup": 3e6}.get(ship.role, 3e5)
        flow = scale * (0.15 + load) * (1 - 0.6 * weight.stuck)
        flow = np.clip(flow * (1 + 0.12 * noise.jitter("net", times)), 800, None)
        writes = 2.2e5 * ship.cores * (0.2 + load) * (1 + 0.2 * np.abs(noise.jitter("disk", times)))
        if weight.full:
            writes = writes + 2.1e6 * (sum(weight.full.values()) > 0)
        if ship.role == "database":
            writes = writes * (1 + 0.7 * weight.stuck)
        reads = writes * 0.35
        busy = np.clip(writes / (6e6 * np.sqrt(ship.cores)), 0.001, 0.99)
        device = {"system.device": ship.volumes[-1].device.rstrip("0123456789").removeprefix("/dev/")}
        card = "eth0"
        if ship.role == OFFICE:
            device, card = {"system.device": "0 C:"}, "Ethernet"
        out = []
        for direction, rate in (("receive", flow), ("transmit", flow * 1.6)):
            named = {"network.interface.name": card, "network.io.direction": direction}
            out.append(Measured("system.network.io", np.floor(rate), named, kind="counter"))
            out.append(Measured("system.network.errors", np.zeros_like(times), named, kind="counter"))
        for direction, rate in (("read", reads), ("write", writes)):
            named = {**device, "disk.io.direction": direction}
            out.append(Measured("system.disk.io", np.floor(rate / 512) * 512, named, kind="counter"))
            out.append(Measured("system.disk.operations", np.floor(rate / 9000), named, kind="counter"))
        out.append(Measured("system.disk.io_time", np.round(busy, 3), device, kind="counter"))
        running = np.floor(1 + ship.cores * 0.5 * load + np.abs(noise.jitter("running", times)))
        sleeping = np.floor(110 + 40 * crc32(ship.role.encode()) % 37 + 6 * noise.drift("sleeping", times))
        for state, count in (("running", running), ("sleeping", sleeping)):
            out.append(Measured("system.process.count", count, {"process.state": state}))
        return out

    def _service(self, ship: Ship, times: F64, load: F64, weight: Weight, noise: Noise) -> list[Measured]:
        stuck = weight.stuck
        if ship.role == "database":
            return self._database(ship, times, load, stuck, noise)
        if ship.role in ("web", "timetable", "application"):
            return self._web(ship, times, load, weight, noise)
        if ship.role == "queue":
            depth = np.floor(np.clip(6 + 14 * load + 5 * noise.jitter("queue", times), 0, None))
            return [Measured("messaging.queue.depth", depth, {"messaging.destination.name": "bookings"})]
        if ship.role == "gate-controller":
            through = np.clip(1.1 * load * (1 - 0.8 * stuck) + 0.1 * noise.jitter("gate", times), 0, None)
            failed = np.clip(0.004 + 0.3 * stuck * load + 0.02 * stuck + weight.failing * load, 0, None)
            return [
                Measured("gate.passengers", np.round(through, 3), kind="counter"),
                Measured("gate.lookups.failed", np.round(failed, 4), kind="counter"),
            ]
        if ship.role == "hypervisor":
            fan = 5200 - 3900 * np.clip(weight.heat * 1.6, 0, 1) + 60 * noise.jitter("fan", times)
            warm = 51 + 5 * load + 34 * weight.heat + 0.6 * noise.jitter("heat", times)
            return [
                Measured("hw.fan.speed", np.round(fan), {"hw.name": "fan 2"}),
                Measured("hw.temperature", np.round(warm, 1), {"hw.name": "processor 1"}),
            ]
        if ship.role == "bastion":
            tried = np.clip(weight.tried * (1 + 0.1 * noise.jitter("tried", times)), 0, None)
            return [Measured("balise.signin.failed", np.round(tried, 2), kind="counter")]
        if ship.role == "display":
            late = (4 + 0.6 * noise.jitter("late", times)) * np.exp(weight.slow)
            missed = np.clip(0.001 + weight.failing, 0, None)
            return [
                Measured("display.refresh.duration", np.round(late, 2)),
                Measured("display.refresh.failed", np.round(missed, 4), kind="counter"),
            ]
        return []

    @staticmethod
    def _database(ship: Ship, times: F64, load: F64, stuck: F64, noise: Noise) -> list[Measured]:
        waiting = np.floor(np.clip(14.4 * stuck + 0.55 * np.abs(noise.jitter("waits", times)), 0, None))
        active = np.floor(2 + 9 * load + waiting + np.abs(noise.jitter("active", times)))
        idle = np.floor(np.clip(38 - waiting + 5 * noise.drift("idle", times), 3, None))
        rate = (40 + 320 * load) * (1 - 0.72 * stuck) * (1 + 0.05 * noise.jitter("tx", times))
        if ship.name != "book-db-n1":
            rate = rate * 0.3
        hits = np.clip(0.994 - 0.01 * stuck + 0.001 * noise.jitter("hits", times), 0, 1)
        database = {"service.name": "booking"}
        return [
            Measured("postgresql.backends", active, {**database, "postgresql.state": "active"}),
            Measured("postgresql.backends", idle, {**database, "postgresql.state": "idle"}),
            Measured("postgresql.sessions.blocked", waiting, database),
            Measured(
                "postgresql.transactions",
                np.floor(np.clip(rate, 0, None)),
                {**database, "postgresql.outcome": "committed"},
                kind="counter",
            ),
            Measured("postgresql.cache.hit_ratio", np.round(hits, 4), {**database, "db.namespace": "booking"}),
        ]

    @staticmethod
    def _web(ship: Ship, times: F64, load: F64, weight: Weight, noise: Noise) -> list[Measured]:
        stuck = weight.stuck
        named = {"service.name": "timetable" if ship.role == "timetable" else "booking"}
        rate = np.clip((3 + 38 * load) * (1 - 0.55 * stuck) * (1 + 0.08 * noise.jitter("rate", times)), 0.2, None)
        median = (0.075 + 0.06 * load) * (1 + 0.1 * noise.drift("latency", times)) * np.exp(3.6 * stuck + weight.slow)
        # The share below each bound, as if durations were log-logistic around the median.
        shape = 2.3
        below = [1 / (1 + (median / b) ** shape) for b in BOUNDS]
        parts = np.diff(np.vstack([np.zeros_like(times), *below, np.ones_like(times)]), axis=0)
        bounds = [*(repr(b) for b in BOUNDS), "inf"]
        out = [
            Measured("http.server.request.duration", np.round(rate * p, 3), named, f"le:{b}", "counter")
            for b, p in zip(bounds, parts, strict=True)
        ]
        total = np.round(rate * parts.sum(axis=0), 3)
        out += [
            Measured("http.server.request.duration", total, named, "count", "counter"),
            Measured("http.server.request.duration", np.round(rate * median * 1.35, 4), named, "sum", "counter"),
            Measured("http.server.request.errors", np.round(rate * np.clip(0.002 + 0.2 * stuck + weight.failing, 0, 1), 3), named,
                     kind="counter"),
        ]  # fmt: skip
        if ship.role == "timetable":
            out.append(
                Measured(
                    "tls.certificate.remaining",
                    np.where(weight.certificate > 0, 0.0, 9e5),
                    {"tls.server.name": "timetable.skerry.example"},
                )
            )
        if ship.role == "application":
            threads = np.floor(
                np.clip(4 + 22 * load + 150 * stuck + 60 * weight.slow + 2 * noise.jitter("threads", times), 1, 200)
            )
            saw = (
                0.35
                + weight.heap
                + 0.25 * (1 - 1.6 * weight.heap) * ((times / 47.0 + crc32(ship.name.encode()) % 47) % 1.0)
                + 0.1 * load
            )
            out.append(Measured("jvm.thread.busy", threads, named))
            paused = 0.04 + 0.02 * np.abs(noise.jitter("pause", times)) + weight.paused
            out.append(Measured("jvm.gc.pause", np.round(paused, 3), named))
            out.append(Measured("jvm.memory.used", np.floor(saw * 8 * GIB / 4096) * 4096, named))
        return out
