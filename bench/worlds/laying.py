"""From what weighs on a system to what would be measured of it: a case for the trail, with its truth."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from balise.core.trail.case import Case
from balise.core.trail.graph import Edge, Graph, near
from balise.core.trail.sorts import sort_of
from balise.core.trail.things import Happening, Line, Node, Thing
from worlds.faults import FAULTS, Place
from worlds.quirks import QUIRKS
from worlds.strain import Strain
from worlds.system import Host, Service, made

F64 = NDArray[np.float64]
STEP = 15.0
BEFORE, LENGTH = 3600.0, 2400.0


@dataclass(frozen=True)
class Chance:
    """How a run is varied."""

    hosts: int = 30
    edges_missing: float = 0.0
    lost: float = 0.0
    clocks: float = 30.0
    quirks: int = 4
    blind: float = 0.12
    """How often nothing tells of what began it: what it does is all that is seen."""


@dataclass(frozen=True)
class Run:
    case: Case
    truth: frozenset[Thing]
    fault: str


def lay(seed: int, fault: str | None, chance: Chance) -> Run:
    """A system, a fault in it (or none), some disturbances, and what is measured of all that."""
    rng = np.random.default_rng(seed)
    system = made(rng, chance.hosts)
    start = 1_700_000_000.0 + float(rng.integers(0, 86_400 * 300)) // STEP * STEP
    times = np.asarray(start - BEFORE + np.arange(int((BEFORE + LENGTH) / STEP)) * STEP, np.float64)
    strain = Strain(system, times, rng)
    happenings: list[Happening] = []
    truth: frozenset[Thing] = frozenset()
    felt: frozenset[Node] | None = None
    if fault is not None:
        at = start + float(rng.uniform(200, 700))
        place = Place(strain, at, start + LENGTH + 900, float(rng.uniform(0.6, 1.2)), rng, happenings)
        truth = FAULTS[fault](place)
        felt = place.felt
    for name in rng.choice(list(QUIRKS), int(rng.integers(0, chance.quirks + 1))):
        at = start + float(rng.uniform(-600, LENGTH - 300))
        QUIRKS[str(name)](Place(strain, at, at + float(rng.uniform(200, 1500)), 1.0, rng, happenings))
    if fault is not None and rng.random() < chance.blind:
        truth = _blinded(truth, happenings, set(truth))
    strain.travel()
    happenings += _echoes(strain, rng)
    laid = _Laying(strain, rng, chance)
    lines, values, usual = laid.lines()
    if felt is None:
        felt = _felt(strain, rng)
    edges = [edge for edge in _edges(strain) if edge.of == (edge.on[0], "") or rng.random() >= chance.edges_missing]
    groups: dict[str, list[Node]] = {}
    for host in system.hosts.values():
        groups.setdefault(f"site {host.site}", []).append((host.name, ""))
        groups.setdefault(f"group {host.group}", []).append((host.name, ""))
    lost = {one.thing for one in happenings if rng.random() < chance.lost}
    truth = _blinded(truth, happenings, lost)
    happenings = [laid.shifted(one) for one in happenings if one.thing not in lost]
    case = Case(
        start, start + LENGTH, felt, times, lines, values, usual, np.full(len(lines), 1e-9), happenings,
        Graph([*edges, *near(groups)]),
    )  # fmt: skip
    return Run(case, truth, fault or "")


def _blinded(truth: frozenset[Thing], happenings: list[Happening], hidden: set[Thing]) -> frozenset[Thing]:
    """Takes away what tells of the cause, if that is hidden; where it happened is right then, too."""
    told = {one.thing for one in happenings} & truth & hidden
    happenings[:] = [one for one in happenings if one.thing not in told]
    places = {
        place for t in told if t.host for place in (Thing("host", t.host, t.host), Thing("volume", "sda", t.host))
    }
    return truth | places | {Thing("service", t.service, t.host, t.service) for t in told if t.service}


def _echoes(strain: Strain, rng: np.random.Generator) -> list[Happening]:
    """What those say who suffer: mostly new words, and many of them, some time after they began to."""
    found = []
    for service in strain.system.services.values():
        pain = strain.slow[service.node] + strain.fail[service.node]
        if pain.max() < 0.35 or rng.random() > 0.75:
            continue
        at = float(strain.times[int(np.argmax(pain >= 0.25))]) + float(rng.uniform(5, 60))
        by_service = rng.random() < 0.6
        thing = Thing("service", service.name, service.host, service.name) if by_service else Thing(
            "host", service.host, service.host
        )  # fmt: skip
        found.append(
            Happening("pattern", thing, at, "timed out waiting for an answer", uncertainty=2.0,
                      deviation=float(rng.uniform(8, 45)), sort="errors")
        )  # fmt: skip
    return found


def _felt(strain: Strain, rng: np.random.Generator) -> frozenset[Node]:
    """One place near the users that suffers most; any of those there when none does."""
    tier = min(s.tier for s in strain.system.services.values())
    front = [s for s in strain.system.services.values() if s.tier <= tier + 1]
    pain = [float((strain.slow[s.node] + strain.fail[s.node])[-40:].mean()) for s in front]
    if max(pain) < 0.05:
        every = list(strain.system.services.values())
        pain = [float((strain.slow[s.node] + strain.fail[s.node])[-40:].mean()) for s in every]
        if max(pain) >= 0.05:
            return frozenset({every[int(np.argmax(pain))].node})
        return frozenset({front[int(rng.integers(len(front)))].node})
    return frozenset({front[int(np.argmax(pain))].node})


def _edges(strain: Strain) -> list[Edge]:
    system = strain.system
    found = [Edge(s.node, need) for s in system.services.values() for need in s.needs]
    found += [Edge((h.name, ""), (h.machine, ""), "runs on") for h in system.hosts.values() if h.machine]
    found += [Edge((h.machine, ""), (h.name, ""), "shares") for h in system.hosts.values() if h.machine]
    for service in system.services.values():
        found.append(Edge((service.host, ""), service.node, "shares"))
        found += [Edge(service.node, ("", name)) for name in strain.asks.get(service.node, ())]
    return found


class _Laying:
    def __init__(self, strain: Strain, rng: np.random.Generator, chance: Chance) -> None:
        self.strain, self.rng, self.chance = strain, rng, chance
        self.off = {h: float(rng.uniform(-chance.clocks, chance.clocks)) for h in strain.system.hosts}
        self.n = len(strain.times)
        day = (strain.times % 86_400) / 86_400
        self.load = 0.5 + 0.25 * np.sin(2 * np.pi * (day - 0.3)) + 0.03 * self._drift()

    def _drift(self) -> F64:
        return np.interp(
            np.arange(self.n),
            np.arange(0, self.n + 40, 40),
            self.rng.normal(0, 1, (self.n + 79) // 40 + 0)[: len(np.arange(0, self.n + 40, 40))],
        )

    def shifted(self, one: Happening) -> Happening:
        off = self.off.get(one.thing.host, 0.0)
        return Happening(**{**vars(one), "at": one.at + off, "uncertainty": one.uncertainty + abs(off) * 0.5})

    def lines(self) -> tuple[list[Line], F64, F64]:
        lines: list[Line] = []
        values: list[F64] = []
        usual: list[F64] = []
        for host in self.strain.system.hosts.values():
            known = np.ones(self.n, bool)
            if self.chance.lost:
                known &= self.rng.random(self.n) >= self.chance.lost
            for name, since, until in self.strain.gaps:
                if name == host.name:
                    known &= (self.strain.times < since) | (self.strain.times > until)
            known &= self.strain.silent[host.name] < 0.5
            for thing, metric, unit, attributes, series, as_usual in self._of_host(host):
                off = self.off[host.name]
                moved = np.interp(self.strain.times - off, self.strain.times, series)
                lines.append(
                    Line(thing, metric, unit, sort_of(metric, unit, attributes), attributes, clock=abs(off) * 0.5)
                )
                values.append(np.where(known, moved, np.nan))
                usual.append(np.full(self.n, np.nan) if as_usual is None else as_usual)
        for name in self.strain.system.outside:
            for metric, unit, series in self._of_outside(name):
                lines.append(Line(Thing("service", name, "", name), metric, unit, sort_of(metric, unit)))
                values.append(np.where(self.rng.random(self.n) < self.chance.lost, np.nan, series))
                usual.append(np.full(self.n, np.nan))
        return lines, np.array(values), np.array(usual)

    def _of_outside(self, name: str):  # type: ignore[no-untyped-def]
        """What probes see of what is outside, once a minute."""
        away = self.strain.away[name]
        seen = np.arange(self.n) // 4 * 4
        yield "probe.up", "1", np.where(away > 0.5, 0.0, 1.0)[seen]
        yield "probe.duration", "s", (0.08 * np.exp(2.5 * away) * (1 + self._noise(0.1)))[seen]

    def _noise(self, size: float) -> F64:
        return self.rng.normal(0, size, self.n)

    def _of_host(self, host: Host):  # type: ignore[no-untyped-def]
        s = self.strain
        guests = s.system.on(host.name)
        thing = Thing("machine" if guests else "host", host.name, host.name)
        of = s.system.of(host.name)
        pace = float(self.rng.uniform(0.2, 0.5))
        cpu = np.clip(pace * (0.5 + self.load) + s.cpu[host.name] + self._noise(0.012), 0.01, 0.99)
        steal = np.clip(s.steal[host.name] * 0.5 + np.abs(self._noise(0.003)), 0, 0.8)
        wait = np.clip(0.02 + 0.35 * s.disk[host.name] + np.abs(self._noise(0.005)), 0, 0.9)
        normal = None
        if host.name in s.usual and s.usual[host.name].any():
            normal = np.clip(pace * (0.5 + self.load) + 0.4 * s.usual[host.name], 0.01, 0.99)
        yield thing, "balise.cpu.busy", "1", {}, cpu, normal
        yield thing, "system.cpu.utilization", "1", {"cpu.mode": "steal"}, steal, None
        yield (
            thing,
            "system.cpu.utilization",
            "1",
            {"cpu.mode": "iowait"},
            wait,
            None if normal is None else 0.02 + 0.35 * s.disk[host.name],
        )
        yield (
            thing,
            "system.cpu.load_average.1m",
            "{thread}",
            {},
            np.round(8 * (cpu + wait) + np.abs(self._noise(0.2)), 2),
            None if normal is None else 8 * (normal + 0.02 + 0.35 * s.disk[host.name]),
        )
        memory = (
            float(self.rng.uniform(0.4, 0.6))
            + sum((0.35 * s.heap[o.node] for o in of), np.zeros(self.n))
            + self._noise(0.004)
        )
        yield thing, "system.memory.utilization", "1", {"system.memory.state": "used"}, np.clip(memory, 0, 0.99), None
        busy = np.clip(0.1 + 0.6 * s.disk[host.name] + np.abs(self._noise(0.02)), 0, 1)
        yield (
            Thing("volume", "sda", host.name),
            "system.disk.io_time",
            "s",
            {"system.device": "sda"},
            busy,
            None if normal is None else 0.1 + 0.6 * s.disk[host.name],
        )
        flow = 2e5 * (0.4 + self.load) * (1 + self._noise(0.08))
        yield thing, "system.network.io", "By/s", {"network.io.direction": "receive"}, flow, None
        bad = (
            np.clip(60 * s.damaged[host.name] * (1 + self._noise(0.3)), 0, None)
            + (self.rng.random(self.n) < 0.01) / STEP
        )
        yield (
            Thing("link", "eth0", host.name),
            "system.network.errors",
            "{error}/s",
            {"network.interface.name": "eth0"},
            bad,
            None,
        )
        for volume in host.volumes:
            level = float(self.rng.uniform(0.2, 0.6))
            used = np.minimum(
                level + (1 - level) * np.clip(s.volume[host.name, volume], 0, 1) + self._drift() * 0.002, 0.999
            )
            yield (
                Thing("volume", volume, host.name),
                "system.filesystem.utilization",
                "1",
                {"system.filesystem.mountpoint": volume},
                used,
                None,
            )
        if guests:
            yield thing, "hw.temperature", "Cel", {}, 48 + 30 * s.heat[host.name] + self._noise(0.5), None
            yield (
                Thing("machine", host.name, host.name),
                "hw.fan.speed",
                "1/min",
                {},
                4200 - 2600 * s.heat[host.name] + self._noise(40),
                None,
            )
        for service in of:
            yield from self._of_service(service)

    def _of_service(self, service: Service):  # type: ignore[no-untyped-def]
        s, node = self.strain, service.node
        thing = Thing("service", service.name, service.host, service.name)
        more = np.clip(1 + s.more[node] - s.less[node], 0.05, None)
        asked = float(self.rng.uniform(20, 90)) * (0.3 + self.load) * more * (1 + self._noise(0.05))
        median = (
            float(self.rng.uniform(0.01, 0.1))
            * (1 + 0.3 * self.load)
            * np.exp(np.clip(1.6 * s.slow[node], -1, 4))
            * (1 + self._noise(0.06))
        )
        wrong = np.clip(asked * (0.002 + 0.4 * np.clip(s.fail[node], 0, 1)) * (1 + self._noise(0.2)), 0, None)
        queue = np.floor(np.clip(2 + 3 * self.load + 6 * s.wait[node] + self._noise(0.8), 0, None))
        busy = np.floor(
            np.clip(4 + 18 * self.load * np.clip(more, 0, 3) + 24 * s.slow[node] + self._noise(1.5), 0, 200)
        )
        known = {"service.name": service.name}
        yield thing, f"{service.kind}.request.duration", "s", known, median, None
        yield thing, f"{service.kind}.requests", "{request}/s", known, asked, None
        yield thing, f"{service.kind}.request.errors", "{request}/s", known, wrong, None
        yield thing, f"{service.kind}.queue.depth", "{request}", known, queue, None
        yield thing, f"{service.kind}.thread.busy", "{thread}", known, busy, None
        saw = 0.35 + 0.2 * ((s.times / 70) % 1) + 0.6 * np.clip(s.heap[node], 0, 1)
        yield thing, f"{service.kind}.memory.used", "By", known, saw * 4e9, None
