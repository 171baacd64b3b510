"""What agents are told of their plans, as soon as it is other than what they have."""

from __future__ import annotations

import asyncio
import hashlib
import random
import time
from collections.abc import Iterable
from typing import Any, Protocol

from balise.api.parts import EffectivePlan
from balise.api.plans import HostPlan
from balise.api.secrets import REVEALED
from balise.api.services import ServiceTarget
from balise.server.errors import Refused, unknown
from balise.server.hosts.directory import Directory, Known
from balise.server.plans.asks import PathAsks
from balise.server.plans.held import HeldPlans


class ReadByAgents(Protocol):
    """The services that the agent of a host reads itself."""

    def of_agent(self, known: Known) -> list[ServiceTarget]: ...


class AgentPlans:
    """What the plans, and the services on a host, make of its agent's work."""

    def __init__(self, *, directory: Directory, plans: HeldPlans, services: ReadByAgents, asks: PathAsks) -> None:
        self._directory = directory
        self._asks = asks
        self._plans = plans
        self._services = services
        self._loop: asyncio.AbstractEventLoop | None = None
        self._waiting: dict[int, asyncio.Event] = {}
        self._stopped = False

    def effective(self, known: Known) -> EffectivePlan:
        """All that an agent has to know, with what its services are read with."""
        stacked, etag = self._plans.of(known), self._plans.etag_of(known)
        plan = stacked.effective()
        plan.services = self._services.of_agent(known)
        plan.refresh = self._plans.refreshed(known.id)
        if plan.refresh:
            etag = hashlib.sha256(f"{etag} {plan.refresh}".encode()).hexdigest()[:16]
        if plan.services:
            read = "".join(service.model_dump_json(exclude={"kit"}, context=REVEALED) for service in plan.services)
            etag = hashlib.sha256(f"{etag} {read}".encode()).hexdigest()[:16]
        plan.asks = self._asks.of(known.id)
        if plan.asks:
            etag = hashlib.sha256(f"{etag} {[ask.id for ask in plan.asks]}".encode()).hexdigest()[:16]
        plan.etag = etag
        return plan

    def of_host(self, name: str, report: dict[str, Any] | None) -> HostPlan:
        """What holds for a host, for people; `report` is its agent's last."""
        known = self._directory.find(name)
        if known is None:
            raise unknown("host", name)
        stacked, etag = self._plans.of(known), self.effective(known).etag
        told = (report or {}).get("plan")
        applied = "no agent" if known.mode != "resident" or report is None else "not yet"
        problems: list[str] = []
        if isinstance(told, dict) and known.mode == "resident":
            applied = "yes" if told.get("etag") == etag else "not yet"
            problems = [str(p)[:300] for p in told.get("problems") or []][:50]
        return HostPlan(settings=stacked.settings(), plans=stacked.plans, problems=problems, applied=applied)  # type: ignore[arg-type]

    async def wait_for(self, host: int, etag: str, seconds: float) -> EffectivePlan | None:
        """An agent's plan, as soon as it is another than the one it has; None when that does not come in time."""
        end = time.monotonic() + seconds
        while True:
            changed = self._waiting.setdefault(host, asyncio.Event())
            known = self._directory.get(host)
            if known is None:
                raise Refused(401, "The host is gone: enrol it again.")
            plan = self.effective(known)
            left = end - time.monotonic()
            if plan.etag != etag or self._loop is None:
                return plan
            if left <= 0 or self._stopped:
                self._waiting.pop(host, None)
                return None
            try:
                await asyncio.wait_for(changed.wait(), left)
            except TimeoutError:
                self._waiting.pop(host, None)
                return None
            # A whole fleet that wakes at once takes its turns over a second.
            await asyncio.sleep(random.uniform(0.0, min(1.0, len(self._waiting) / 500)))  # noqa: S311  spread, no secret

    def start(self, loop: asyncio.AbstractEventLoop) -> None:
        self._loop = loop

    def stop(self) -> None:
        """Lets go of all that wait, for good."""
        self._stopped = True
        self.wake()

    def wake(self, hosts: Iterable[int] | None = None) -> None:
        """Lets agents that wait for their plan look again: those of these hosts, or all."""
        if self._loop is not None and not self._loop.is_closed():
            self._loop.call_soon_threadsafe(self._wake, None if hosts is None else list(hosts))

    def _wake(self, hosts: list[int] | None) -> None:
        for host in list(self._waiting) if hosts is None else hosts:
            changed = self._waiting.pop(host, None)
            if changed is not None:
                changed.set()
