"""What processes, programs and users took of a host over a span: from series where there are, else from looks."""

from __future__ import annotations

import fnmatch
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from balise.api.kits import KitRecognise
from balise.api.processes import ProcessOf, ProcessOrder, ProcessSpan, ProcessSpans
from balise.api.spans import rfc3339
from balise.core.moments import NS, nanos
from balise.core.processes import Added, added_up, busiest
from balise.core.series.steps import steps_between
from balise.server.errors import unknown
from balise.server.events.evidence import filters_text
from balise.server.hosts.directory import Directory
from balise.server.metrics.questions import Metrics
from balise.store.events.store import EventStore
from balise.store.series.query import TooLarge

MOST_LOOKS = 720
POINTS = 240
_SERIES: dict[ProcessOf, tuple[str, str, list[str]]] = {
    "program": ("balise.program.cpu", "balise.program.memory", ["process.executable.name", "process.owner"]),
    "user": ("balise.user.cpu", "balise.user.memory", ["user.name"]),
}


@dataclass(frozen=True)
class Recognised:
    """A service of a host, and how its kit knows it."""

    name: str
    by: KitRecognise


class ProcessHistory:
    """Answers what was busy.

    Args:
        services: the services of a host, by its name.
    """

    def __init__(
        self,
        *,
        directory: Directory,
        events: EventStore,
        metrics: Metrics,
        services: Callable[[str], Sequence[Recognised]],
    ) -> None:
        self._directory = directory
        self._events = events
        self._metrics = metrics
        self._services = services

    def over(self, host: str, start: float, end: float, *, by: ProcessOrder, of: ProcessOf, limit: int) -> ProcessSpans:
        """The busiest of a host over [start, end), unix seconds. Raises Refused 404 for a host there is not."""
        known = self._directory.find(host)
        if known is None:
            raise unknown("host", host)
        looks = self._events.snapshots_over(known.name, "processes", nanos(start), nanos(end), MOST_LOOKS)
        added = added_up(((at / NS, told) for at, told in looks), of)
        found = added.items
        measured = self._measured(known.name, start, end, of) if of in _SERIES else {}
        if measured:
            found = self._joined(found, measured, of)
        services = self._services(known.name)
        chosen = busiest(found, by)[:limit]
        return ProcessSpans(
            items=[_answer(one, services, of) for one in chosen], looked=added.looks, measured=bool(measured)
        )

    def _measured(self, host: str, start: float, end: float, of: ProcessOf) -> dict[tuple[str, ...], Added]:
        """The same from series, which are of every turn of the agent."""
        cpu, memory, by = _SERIES[of]
        steps = steps_between(start, end, step=None, points=POINTS)
        where = f"host eq {filters_text(host)}"
        found: dict[tuple[str, ...], Added] = {}
        for name, take in ((cpu, "avg"), (cpu, "max"), (memory, "max")):
            metric = self._metrics.metric(name)
            if metric is None:
                return {}
            try:
                answer = self._metrics.engine.ask(metric, where, steps, take, by)  # type: ignore[arg-type]
            except TooLarge:
                return {}
            width = answer.steps.width / NS
            for named, line in zip(answer.named, answer.values, strict=True):
                known = line[~np.isnan(line)]
                if not len(known):
                    continue
                key = tuple(named.values())
                one = found.setdefault(key, Added(key[0] if of == "program" else "", key[-1]))
                if name == memory:
                    one.memory_peak = float(known.max())
                elif take == "avg":
                    one.cpu_seconds = min(float(known.sum()) * width, math.inf)
                    one.looks = len(known)
                else:
                    one.cpu_peak = float(known.max())
        return found

    @staticmethod
    def _joined(found: list[Added], measured: dict[tuple[str, ...], Added], of: ProcessOf) -> list[Added]:
        """What is measured, with what looks alone know of it."""
        for one in found:
            held = measured.get((one.program, one.user) if of == "program" else (one.user,))
            if held is None:
                measured[one.program, one.user, "seen alone"] = one
                continue
            held.command, held.unit, held.io = one.command, one.unit, one.io
            held.program = held.program or one.program
        return list(measured.values())


def _answer(one: Added, services: Sequence[Recognised], of: ProcessOf) -> ProcessSpan:
    return ProcessSpan(
        pid=one.pid,
        parent=one.parent,
        program=one.program if of != "user" else "",
        user=one.user,
        command=one.command if of != "user" else "",
        service=_service_of(one, services) if of != "user" else None,
        started_at=rfc3339(one.started) if one.started else None,
        ended_at=rfc3339(one.ended) if one.ended else None,
        cpu_seconds=round(one.cpu_seconds, 3),
        cpu_peak=round(one.cpu_peak, 4),
        memory_peak=one.memory_peak,
        io_bytes=round(one.io) if one.io is not None else None,
        looks=one.looks,
    )


def _service_of(one: Added, services: Sequence[Recognised]) -> str | None:
    """The service whose unit it runs in, else the one whose kit knows its name."""
    for service in services:
        if one.unit and any(fnmatch.fnmatchcase(one.unit, unit) for unit in service.by.unit):
            return service.name
    program = one.program.partition(":")[0].partition(" ")[0]
    return next((service.name for service in services if program in service.by.process), None)
