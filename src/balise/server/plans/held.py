"""Plans laid over one another: what holds for each host."""

from __future__ import annotations

import hashlib
import threading
import time
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Literal

from sqlalchemy import select

from balise.api.limits import Limits
from balise.api.parts import default_setting
from balise.api.plans import PlanBody
from balise.api.relays import SumPlan
from balise.api.remote import FollowedFile
from balise.api.spans import seconds
from balise.core.plans import OFF, HostView, NamedPlan, Stacked, in_order, is_for, stack
from balise.server.hosts.directory import Directory, Known, attribute_of
from balise.server.signals import Signal
from balise.store.state import tables
from balise.store.state.store import StateStore


@dataclass(frozen=True)
class FromAfar:
    """A plan for a host that is read over the network. `every` is seconds, None when no plan says."""

    every: float | None = None
    follow: list[FollowedFile] = field(default_factory=list)
    off: list[str] = field(default_factory=list)
    inventory_every: float | None = 3600.0
    refresh: int = 0


class HeldPlans:
    """What all plans together say. It is worked out anew when plans, hosts or groups change."""

    def __init__(self, *, state: StateStore, directory: Directory) -> None:
        self._state = state
        self._directory = directory
        self._lock = threading.Lock()
        self.plans: list[NamedPlan] = []
        self._planned: set[str] = set()
        self._stacked: dict[int, tuple[Stacked, str]] = {}
        self._version = -1
        self._refreshes: dict[int, int] = {}
        self.asked = Signal[int]("inventory asked for")
        """Told the number of a host that is to tell its inventory at once."""
        self.load()

    def load(self) -> None:
        """Takes up all plans as they are written."""
        rows = self._state.read(lambda s: list(s.scalars(select(tables.Plan))))
        now = time.time()
        every = [NamedPlan(row.name, PlanBody.model_validate(row.body)) for row in rows]
        named = [plan for plan in every if not plan.body.is_over(now)]
        with self._lock:
            self.plans = in_order(named, self.depth)
            self._planned = {rule for plan in self.plans for rule in (*plan.body.limits, *plan.body.snooze)}
            self._stacked.clear()

    def of(self, known: Known) -> Stacked:
        """What holds for a host."""
        return self._held(known)[0]

    def etag_of(self, known: Known) -> str:
        """Tells what holds for a host from what held before."""
        return self._held(known)[1]

    def from_afar(self, known: Known) -> FromAfar:
        """What a host's plan says to whoever reads it over the network."""
        stacked = self.of(known)
        inventory = stacked.collectors.get("inventory") or default_setting("inventory")
        return FromAfar(
            every=self.every(known),
            follow=[stacked.follow[path] for path in sorted(stacked.follow)],
            off=[name for name, setting in sorted(stacked.collectors.items()) if not setting.on],
            inventory_every=inventory.every if inventory.on else None,
            refresh=self._refreshes.get(known.id, 0),
        )

    def every(self, known: Known) -> float | None:
        """How often plans say that a host is read, seconds; None where none does."""
        if not any(plan.body.collect.every for plan in self.plans):
            return None
        stacked = self.of(known)
        return stacked.every if "collect.every" in stacked.sources else None

    def machine_of(self, known: Known) -> tuple[str, str]:
        """The machine that plans say a host runs on, and which plan; both empty for none."""
        if not any(plan.body.runs_on for plan in self.plans):
            return "", ""
        stacked = self.of(known)
        return (stacked.runs_on, f"the plan {stacked.sources['runs_on']}") if stacked.runs_on else ("", "")

    def thinned(self, hosts: Iterable[int]) -> dict[int, float]:
        """Of which of these hosts a relay sends on one point of each series in how many seconds."""
        if not any(plan.body.relay.thin for plan in self.plans):
            return {}
        known = [one for one in map(self._directory.get, sorted(set(hosts))) if one is not None]
        return {one.id: thin for one in known if (thin := self.of(one).thin) is not None}

    def summed(self, hosts: Iterable[int]) -> list[SumPlan]:
        """What a relay adds up of these hosts, by plan."""
        if not any(plan.body.relay.sums for plan in self.plans):
            return []
        found: dict[str, SumPlan] = {}
        for known in map(self._directory.get, sorted(set(hosts))):
            stacked = self.of(known) if known is not None else None
            if known is None or stacked is None or stacked.sums is None:
                continue
            name, sums = stacked.sources["relay.sums"], stacked.sums
            made = SumPlan(plan=name, metrics=sums.metrics, every=seconds(sums.every), only=sums.only, hosts=[])
            found.setdefault(name, made).hosts.append(known.id)
        return list(found.values())

    def limits_of(self, rule: str, host: int) -> Limits | Literal["off"] | None:
        """What plans say of a rule's limits on a host."""
        if not self.is_planned(rule):
            return None
        known = self._directory.get(host)
        if known is None:
            return None
        stacked = self.of(known)
        return OFF if rule in stacked.snoozed else stacked.limits.get(rule)

    def is_planned(self, rule: str) -> bool:
        """Whether any plan says something of a rule's limits."""
        return rule in self._planned

    def applications(self) -> list[tuple[str, str, str, list[str]]]:
        """What plans say of applications: plan, application, host, and the parts that the host needs."""
        found = []
        for plan in self.plans:
            said = plan.body.application
            if said is not None:
                hosts = (known for known in self._directory.all() if is_for(plan.body, view(known)))
                found += [(plan.name, said.name, known.name, said.needs) for known in hosts]
        return found

    def hosts_of(self, body: PlanBody) -> list[Known]:
        """The hosts that a plan is for."""
        return [known for known in self._directory.all() if is_for(body, view(known))]

    def refreshed(self, host: int) -> int:
        """When a host was last asked for its inventory, unix milliseconds; 0 for never."""
        return self._refreshes.get(host, 0)

    def refresh(self, known: Known) -> None:
        """Has a host's agent tell its inventory at once."""
        self._refreshes[known.id] = int(time.time() * 1000)
        self.asked.tell(known.id)

    def depth(self, group: str) -> int:
        """How many groups a group is in, with itself: what is nearer to a host is laid over the others."""
        return len(self._directory.lineage(group))

    def _held(self, known: Known) -> tuple[Stacked, str]:
        with self._lock:
            if self._version != self._directory.version:
                self._version = self._directory.version
                self.plans = in_order(self.plans, self.depth)
                self._stacked.clear()
            held = self._stacked.get(known.id)
            if held is None:
                stacked = stack(self.plans, view(known))
                text = stacked.effective().model_dump_json()
                held = self._stacked[known.id] = (stacked, hashlib.sha256(text.encode()).hexdigest()[:16])
            return held


def view(known: Known) -> HostView:
    """A host as plans see it."""
    return HostView(known.name, known.groups, lambda name: attribute_of(known, name))
