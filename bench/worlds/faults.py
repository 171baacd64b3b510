"""Faults of many kinds, each with its one true cause."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from balise.core.trail.things import Happening, Thing
from worlds.strain import Strain
from worlds.system import Node, Service, System

Fault = Callable[["Place"], frozenset[Thing]]
MINUTE = 60.0
SORTS = {"pattern": "errors", "session": "waiting", "process": "saturation"}


@dataclass
class Place:
    """Where and when a fault happens, and what it leaves behind."""

    strain: Strain
    at: float
    until: float
    strength: float
    rng: np.random.Generator
    happenings: list[Happening]
    felt: frozenset[Node] | None = None

    @property
    def system(self) -> System:
        return self.strain.system

    def a_service(self, kinds: tuple[str, ...] = (), *, needed: bool = True) -> Service:
        """One that others need, of these kinds if there are any."""
        used = {need for service in self.system.services.values() for need in service.needs}
        fit = [
            s
            for s in self.system.services.values()
            if (s.kind in kinds or not kinds) and (not needed or s.node in used)
        ]
        fit = fit or list(self.system.services.values())
        return fit[int(self.rng.integers(len(fit)))]

    def profile(self, rise: float, size: float = 1.0) -> np.ndarray:
        return self.strain.profile(self.at, self.until, rise, size * self.strength)

    def happens(
        self, source: str, thing: Thing, text: str, *, late: float = 0.0, off: float = 5.0, **more: object
    ) -> None:
        more.setdefault("sort", SORTS.get(source, "state"))
        self.happenings.append(
            Happening(source, thing, self.at + late, text, uncertainty=off, **more)  # type: ignore[arg-type]
        )

    def pattern(self, host: str, service: str, text: str, *, late: float = 20.0, deviation: float = 12.0) -> None:
        self.happens("pattern", Thing("service" if service else "host", service or host, host, service), text,
                     late=late * float(self.rng.uniform(0.3, 2)), off=20.0, deviation=deviation * self.strength)  # fmt: skip


def held_locks(p: Place) -> frozenset[Thing]:
    service = p.a_service(("database",))
    held = p.profile(float(p.rng.uniform(20, 120)))
    p.strain.wait[service.node] += 9 * held
    p.strain.slow[service.node] += 1.8 * held
    p.strain.less[service.node] = np.clip(p.strain.less[service.node] + 0.6 * held, 0, 0.85)
    thing = Thing("session", f"job {int(p.rng.integers(10_000))}", service.host, service.name)
    p.happens("session", thing, "began and holds locks", late=float(p.rng.uniform(-20, 5)), share=float(p.rng.uniform(0.75, 1)),
              deviation=8.0, holds="waiting sessions wait for it")  # fmt: skip
    p.pattern(service.host, service.name, "lock wait timeout", late=60)
    return frozenset({thing})


def leak(p: Place) -> frozenset[Thing]:
    service = p.a_service(("application", "cache"))
    grown = p.strain.profile(p.at, p.until, float(p.rng.uniform(900, 2000)))
    p.strain.heap[service.node] += grown * p.strength
    late = np.clip((grown - 0.55) / 0.25, 0, 1) * p.strength
    p.strain.slow[service.node] += 1.5 * late
    p.strain.cpu[service.host] += 0.35 * late
    if p.rng.random() < 0.6:
        p.pattern(service.host, service.name, "long pause of the collector", late=600)
    return frozenset(
        {Thing("service", service.name, service.host, service.name), Thing("host", service.host, service.host)}
    )


def full_volume(p: Place) -> frozenset[Thing]:
    service = p.a_service()
    volume = str(p.rng.choice(p.system.hosts[service.host].volumes))
    rise = float(p.rng.uniform(400, 1200))
    grown = p.strain.profile(p.at, p.until + 600, rise)
    p.strain.volume[service.host, volume] += grown
    full = np.clip((grown - 0.96) / 0.03, 0, 1) * p.strength
    p.strain.fail[service.node] += 0.9 * full
    p.strain.less[service.node] = np.clip(p.strain.less[service.node] + 0.6 * full, 0, 0.85)
    p.strain.disk[service.host] += 0.15 * (grown > 0) * (grown < 1)
    p.pattern(service.host, service.name, "No space left on device", late=rise, deviation=20)
    return frozenset({Thing("volume", volume, service.host)})


def neighbour(p: Place) -> frozenset[Thing]:
    machines = [m for m in p.system.machines if len(p.system.on(m)) >= 3]
    machine = str(p.rng.choice(machines or p.system.machines))
    guests = p.system.on(machine)
    loud = str(p.rng.choice(guests))
    taken = p.profile(float(p.rng.uniform(15, 90)))
    p.strain.cpu[loud] += 0.65 * taken
    p.strain.cpu[machine] += 0.5 * taken
    p.strain.disk[loud] += 0.3 * taken
    for guest in guests:
        if guest != loud:
            p.strain.steal[guest] += 0.4 * taken
    thing = Thing("process", f"batch-{int(p.rng.integers(90))}", loud)
    p.happens("process", thing, "began and takes the processor", late=float(p.rng.uniform(-20, 5)),
              share=float(p.rng.uniform(0.6, 1)), deviation=10.0, holds="takes the processor")  # fmt: skip
    return frozenset({thing, Thing("host", loud, loud)})


def flood(p: Place) -> frozenset[Thing]:
    service = p.a_service(("web", "application"), needed=False)
    more = p.profile(float(p.rng.uniform(5, 60)), 2.5)
    p.strain.more[service.node] += more
    p.strain.slow[service.node] += 0.6 * np.clip(more - 0.5, 0, 3)
    thing = Thing("address", f"198.51.100.{int(p.rng.integers(1, 255))}", service.host, service.name)
    p.happens("pattern", thing, "requests from one address", share=float(p.rng.uniform(0.6, 0.95)), deviation=25.0 * p.strength,
              off=15.0, holds="asks more than all others together")  # fmt: skip
    p.felt = frozenset({service.node})
    return frozenset({thing})


def expired(p: Place) -> frozenset[Thing]:
    service = p.a_service(("web", "application"), needed=False)
    broken = p.strain.profile(p.at, p.until, 5.0, 0.9)
    p.strain.fail[service.node] += broken
    p.strain.less[service.node] = np.clip(p.strain.less[service.node] + 0.7 * broken, 0, 0.9)
    thing = Thing("certificate", f"{service.name}.example", service.host, service.name)
    p.happens("state", thing, "ran out", deviation=20.0, share=1.0, off=1.0, holds="probes and clients refuse it")
    p.pattern(service.host, service.name, "certificate has expired", late=10, deviation=20)
    p.felt = frozenset({service.node})
    return frozenset({thing})


def hot(p: Place) -> frozenset[Thing]:
    machine = str(p.rng.choice(p.system.machines))
    heat = p.strain.profile(p.at, p.until, float(p.rng.uniform(300, 700)), p.strength)
    p.strain.heat[machine] += heat
    throttled = np.clip((heat - 0.5) / 0.3, 0, 1)
    for guest in p.system.on(machine):
        p.strain.steal[guest] += 0.45 * throttled * p.strength
    p.pattern(machine, "", "fan below its least speed", late=30, deviation=15)
    return frozenset({Thing("machine", machine, machine), Thing("host", machine, machine)})


def bad_link(p: Place) -> frozenset[Thing]:
    service = p.a_service()
    bad = p.profile(10.0)
    p.strain.damaged[service.host] += bad
    if p.rng.random() < 0.6:
        p.strain.silent[service.host] += (bad > 0.3) * 1.0
        p.happens("state", Thing("link", "network", service.host), "nothing is heard of it, its neighbours are there",
                  late=45, off=30.0, deviation=20.0, share=1.0)  # fmt: skip
    return frozenset(
        {
            Thing("link", "eth0", service.host),
            Thing("link", "network", service.host),
            Thing("host", service.host, service.host),
        }
    )


def rollout(p: Place) -> frozenset[Thing]:
    service = p.a_service(("application", "web"), needed=False)
    alike = [s for s in p.system.services.values() if s.name == service.name][: int(p.rng.integers(1, 4))]
    right = set()
    late = 0.0
    for one in alike:
        broken = p.strain.profile(
            p.at + late, p.until, float(p.rng.uniform(5, 40)), float(p.rng.uniform(0.4, 1)) * p.strength
        )
        p.strain.fail[one.node] += broken
        p.strain.slow[one.node] += 0.5 * broken
        thing = Thing("change", f"{one.name} 4.{int(p.rng.integers(9))}", one.host, one.name)
        p.happens("change", thing, "a new version", late=late - float(p.rng.uniform(0, 15)), off=10.0)
        p.pattern(one.host, one.name, "exception in the new version", late=late + 20)
        right.add(thing)
        late += float(p.rng.uniform(10, 60))
    p.felt = frozenset({service.node}) if p.rng.random() < 0.5 else None
    return frozenset(right)


def query(p: Place) -> frozenset[Thing]:
    service = p.a_service(("database", "files"))
    taken = p.profile(float(p.rng.uniform(10, 60)))
    p.strain.cpu[service.host] += 0.55 * taken
    p.strain.disk[service.host] += 0.5 * taken
    p.strain.slow[service.node] += 1.2 * taken
    thing = Thing("query", f"select {int(p.rng.integers(100_000))}", service.host, service.name)
    p.happens("session", thing, "runs since then", late=float(p.rng.uniform(-15, 5)), share=float(p.rng.uniform(0.5, 0.95)),
              deviation=8.0, holds="takes most of the time of the database")  # fmt: skip
    return frozenset({thing})


def outside(p: Place) -> frozenset[Thing]:
    users = [s for s in p.system.services.values() if s.kind in ("application", "web")]
    hit = [users[i] for i in p.rng.choice(len(users), min(3, len(users)), replace=False)]
    name = str(p.rng.choice(p.system.outside))
    for service in hit:
        p.strain.asks.setdefault(service.node, []).append(name)
    bad = p.profile(10.0)
    p.strain.away[name] += bad
    thing = Thing("service", name, "", name)
    for service in hit:
        p.strain.fail[service.node] += 0.6 * p.strain.later(bad, float(p.rng.uniform(5, 40)))
        p.strain.slow[service.node] += 0.8 * p.strain.later(bad, float(p.rng.uniform(5, 40)))
        p.pattern(service.host, service.name, f"connect to {name} timed out", late=30)
    p.happens("state", thing, "its probes fail", late=float(p.rng.uniform(0, 30)), off=20.0, deviation=20.0)
    p.felt = frozenset({hit[0].node})
    return frozenset({thing})


def slow_disk(p: Place) -> frozenset[Thing]:
    service = p.a_service(("database", "files", "queue"))
    p.strain.disk[service.host] += 1.1 * p.profile(float(p.rng.uniform(10, 120)))
    if p.rng.random() < 0.7:
        p.pattern(service.host, "", "I/O error, retrying", late=15)
    return frozenset({Thing("volume", "sda", service.host), Thing("host", service.host, service.host)})


FAULTS: dict[str, Fault] = {
    "held locks": held_locks, "leak": leak, "full volume": full_volume, "neighbour": neighbour, "flood": flood,
    "expired": expired, "hot": hot, "bad link": bad_link, "rollout": rollout, "query": query, "outside": outside,
    "slow disk": slow_disk,
}  # fmt: skip
