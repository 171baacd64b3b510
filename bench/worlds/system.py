"""Made-up systems of several shapes: hosts on machines, services on hosts, and what needs what."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

Node = tuple[str, str]


@dataclass(frozen=True)
class Service:
    """One service on one host. `needs` are the nodes it asks; `tier` is how far from the users, 0 for the first."""

    host: str
    name: str
    tier: int
    kind: str
    needs: tuple[Node, ...] = ()

    @property
    def node(self) -> Node:
        return self.host, self.name


@dataclass(frozen=True)
class Host:
    name: str
    machine: str
    site: str
    group: str
    volumes: tuple[str, ...]


@dataclass
class System:
    """A whole system. `machines` are hosts too, on which others run."""

    shape: str
    hosts: dict[str, Host] = field(default_factory=dict)
    services: dict[Node, Service] = field(default_factory=dict)
    outside: tuple[str, ...] = ()

    @property
    def machines(self) -> list[str]:
        return sorted({host.machine for host in self.hosts.values() if host.machine})

    def on(self, machine: str) -> list[str]:
        return [host.name for host in self.hosts.values() if host.machine == machine]

    def of(self, host: str) -> list[Service]:
        return [service for service in self.services.values() if service.host == host]

    def order(self) -> list[Service]:
        """So that what is needed comes before what needs it."""
        return sorted(self.services.values(), key=lambda service: -service.tier)


_WORDS = [
    "amber",
    "birch",
    "cedar",
    "delta",
    "ember",
    "fjord",
    "grove",
    "heath",
    "inlet",
    "juniper",
    "kelp",
    "larch",
    "maple",
    "nettle",
    "oak",
    "pine",
    "quill",
    "reed",
]


def made(rng: np.random.Generator, hosts: int) -> System:
    """A system of a shape by chance: tiers with shards, a pipeline of messages, or a cluster that works off jobs."""
    shape = str(rng.choice(["tiers", "pipeline", "cluster"]))
    return {"tiers": _tiers, "pipeline": _pipeline, "cluster": _cluster}[shape](rng, hosts)


class _Builder:
    def __init__(self, rng: np.random.Generator, shape: str, hosts: int) -> None:
        self.rng = rng
        self.system = System(shape, outside=("payments.example", "maps.example"))
        self.sites = [f"hall-{w}" for w in rng.choice(_WORDS, int(rng.integers(2, 4)), replace=False)]
        self._machines = [f"metal-{w}{i}" for i, w in enumerate(rng.choice(_WORDS, max(2, hosts // 6)))]
        for i, machine in enumerate(self._machines):
            site = self.sites[i % len(self.sites)]
            self.system.hosts[machine] = Host(machine, "", site, "machines", ("/",))
        self._count = 0

    def host(self, group: str) -> str:
        machine = self._machines[int(self.rng.integers(len(self._machines)))]
        site = self.system.hosts[machine].site
        name = f"{group}-{self._count:03d}"
        self._count += 1
        volumes = ("/", "/data") if self.rng.random() < 0.5 else ("/", "/var/log", "/data")
        self.system.hosts[name] = Host(name, machine, site, group, volumes)
        return name

    def service(self, group: str, name: str, tier: int, kind: str, needs: list[Node]) -> Node:
        service = Service(self.host(group), name, tier, kind, tuple(needs))
        self.system.services[service.node] = service
        return service.node

    def some(self, of: list[Node], most: int) -> list[Node]:
        count = min(len(of), int(self.rng.integers(1, most + 1)))
        return [of[i] for i in self.rng.choice(len(of), count, replace=False)] if of else []


def _tiers(rng: np.random.Generator, hosts: int) -> System:
    to = _Builder(rng, "tiers", hosts)
    shards = max(2, hosts // 12)
    stores = [to.service(f"store{s}", "store", 3, "database", []) for s in range(shards)]
    caches = [to.service(f"store{s}", "cache", 3, "cache", []) for s in range(shards)]
    mids = []
    for s in range(shards):
        for _ in range(max(2, hosts // (shards * 4))):
            mids.append(to.service(f"logic{s}", "logic", 2, "application", [stores[s], caches[s]]))
    for _ in range(max(2, hosts // 5)):
        to.service("front", "front", 1, "web", to.some(mids, 4))
    return to.system


def _pipeline(rng: np.random.Generator, hosts: int) -> System:
    to = _Builder(rng, "pipeline", hosts)
    stages = int(rng.integers(3, 6))
    below: list[Node] = [to.service("sink", "warehouse", stages + 1, "database", []) for _ in range(2)]
    for stage in range(stages, 0, -1):
        broker = to.service(f"broker{stage}", "broker", stage, "queue", to.some(below, 2))
        workers = [to.service(f"stage{stage}", "worker", stage, "application", [broker])
                   for _ in range(max(2, hosts // (stages + 2)))]  # fmt: skip
        below = workers
    to.service("intake", "intake", 0, "web", to.some(below, 4))
    return to.system


def _cluster(rng: np.random.Generator, hosts: int) -> System:
    to = _Builder(rng, "cluster", hosts)
    files = [to.service("files", "files", 3, "files", []) for _ in range(2)]
    names = to.service("names", "names", 3, "application", [])
    planner = to.service("planner", "planner", 2, "application", [names, files[0]])
    workers = [to.service("worker", "runner", 1, "application", [planner, files[i % 2]]) for i in range(hosts - 6)]
    to.service("desk", "desk", 0, "web", [planner, *to.some(workers, 6)])
    return to.system
