"""How trouble at one place is felt at others: slowness, failures and waiting travel to whoever needs it, with delays;
less of what users ask for comes back; who shares a machine shares what it has."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from worlds.system import Node, System

F64 = NDArray[np.float64]


@dataclass
class Strain:
    """What weighs on every place over the steps, all [n]; zero where nothing is said."""

    system: System
    times: F64
    rng: np.random.Generator
    slow: dict[Node, F64] = field(default_factory=dict)
    fail: dict[Node, F64] = field(default_factory=dict)
    wait: dict[Node, F64] = field(default_factory=dict)
    less: dict[Node, F64] = field(default_factory=dict)
    more: dict[Node, F64] = field(default_factory=dict)
    heap: dict[Node, F64] = field(default_factory=dict)
    cpu: dict[str, F64] = field(default_factory=dict)
    steal: dict[str, F64] = field(default_factory=dict)
    disk: dict[str, F64] = field(default_factory=dict)
    net: dict[str, F64] = field(default_factory=dict)
    damaged: dict[str, F64] = field(default_factory=dict)
    heat: dict[str, F64] = field(default_factory=dict)
    volume: dict[tuple[str, str], F64] = field(default_factory=dict)
    silent: dict[str, F64] = field(default_factory=dict)
    usual: dict[str, F64] = field(default_factory=dict)
    away: dict[str, F64] = field(default_factory=dict)
    gaps: list[tuple[str, float, float]] = field(default_factory=list)
    asks: dict[Node, list[str]] = field(default_factory=dict)
    """Whom outside each service asks."""

    def __post_init__(self) -> None:
        for name, held in vars(self).items():
            if isinstance(held, dict) and name != "asks":
                setattr(self, name, defaultdict(lambda: np.zeros(len(self.times)), held))

    def profile(self, at: float, until: float, rise: float, strength: float = 1.0) -> F64:
        """From nothing at a moment, up within `rise` seconds, and gone after its end."""
        up = np.clip((self.times - at) / max(rise, 1.0), 0, 1)
        down = np.clip(1 - (self.times - until) / 60.0, 0, 1)
        return strength * np.minimum(up, down)

    def later(self, values: F64, seconds: float) -> F64:
        """The same, some seconds later and a little smoothed."""
        moved = np.interp(self.times - seconds, self.times, values, left=0.0)
        return 0.5 * moved + 0.5 * np.interp(self.times - seconds * 1.3 - 10, self.times, values, left=0.0)

    def travel(self) -> None:
        """Lets it all be felt: from hosts to their services, and from services to whoever needs them."""
        system, rng = self.system, self.rng
        for host in system.hosts.values():
            taken = self.steal[host.name] * 1.6 + self.heat[host.name] * 1.2 + np.clip(self.cpu[host.name] - 0.2, 0, 1)
            pain = taken + self.disk[host.name] * 0.8 + self.damaged[host.name] * 0.8
            if pain.max() > 0.02:
                for service in system.of(host.name):
                    self.slow[service.node] = self.slow[service.node] + self.later(pain, float(rng.uniform(0, 25)))
        for service in system.order():
            node = service.node
            for need in service.needs:
                slow, fail = self.slow[need], self.fail[need]
                silent = self.silent[need[0]]
                if max(slow.max(), fail.max(), silent.max()) < 0.02:
                    continue
                delay, part = float(rng.uniform(5, 110)), float(rng.uniform(0.35, 0.85)) / len(service.needs) ** 0.5
                self.slow[node] = self.slow[node] + part * self.later(slow + silent, delay)
                broken = fail * part + 0.3 * np.clip(slow - 1.2, 0, 2) * part + 0.8 * silent * part
                self.fail[node] = self.fail[node] + self.later(broken, delay)
                self.wait[node] = self.wait[node] + self.later(slow * part, delay * 0.8)
                # Who waits for slow answers asks for less, of all that it needs.
                for other in service.needs:
                    held = 0.5 * np.clip(slow * part, 0, 1) / max(1, len(service.needs) - 1)
                    self.less[other] = np.clip(self.less[other] + self.later(held, delay * 1.5), 0, 0.85)
            self.less[node] = np.clip(self.less[node] + 0.35 * np.clip(self.slow[node], 0, 1.5), 0, 0.85)
        for service in system.services.values():
            self.cpu[service.host] = self.cpu[service.host] + 0.12 * self.more[service.node]
            self.cpu[service.host] = self.cpu[service.host] - 0.1 * self.less[service.node]
