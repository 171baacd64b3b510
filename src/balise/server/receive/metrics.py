"""Metrics that arrive over OTLP become batches of points."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from balise.core.moments import NS, Nanos, now_nanos
from balise.core.series.percentiles import bucket_of
from balise.core.series.shapes import BodyReader, Points, Shape
from balise.core.series.wire import Section, Slot, Span, read_metric, read_resource, sections
from balise.server.hosts.clocks import Clocks
from balise.server.hosts.directory import Directory, Known
from balise.server.people.access import Principal
from balise.server.receive.bodies import AHEAD, DAY, HeavyBodies, Outcome, Room, kept_of_resource, resource_host
from balise.server.receive.hearing import Hearing
from balise.server.receive.otlp_json import metrics_from_json
from balise.server.receive.scopes import Admission
from balise.store.series.catalogue import Attributes, Metric, TooMany
from balise.store.series.head import Batch
from balise.store.series.layouts import Layout
from balise.store.series.store import SeriesStore

I64 = NDArray[np.int64]
SHAPE_BYTES = 96 << 20
"""Bytes that the shapes of known bodies may take."""


class MetricIntake:
    """Reads metric requests and hands their points to the series store."""

    def __init__(self, *, store: SeriesStore, directory: Directory, clocks: Clocks, room: Room) -> None:
        self._store = store
        self._directory = directory
        self._hearing = Hearing(catalogue=store.catalogue, directory=directory, clocks=clocks)
        self._room = room
        self._admission = Admission(directory)
        self._heavy = HeavyBodies(room)
        self._reader = BodyReader(capacity=SHAPE_BYTES)
        self.counters: Counter[str] = Counter()

    async def take(
        self,
        principal: Principal,
        body: bytes,
        *,
        as_json: bool,
        arrived: Nanos | None = None,
        of_host: bool = True,
        behind: float | None = None,
    ) -> Outcome:
        """Done when every point that was taken is durable. `arrived` is when a relay took it, unix nanoseconds.

        `behind` is by how many seconds the clock of an agent, or of who reads a host, is behind ours.

        What is not `of_host` is about a service on it, read by somebody else: it does not prove that the host is alive.

        Raises:
            WireError: the body is no metrics request.
            Busy: too much waits to be written, or there is no room.
        """
        self._room.on_disk()
        self._admission.check_kind(principal, "metrics")
        if as_json:
            sent = body
            body = await self._heavy.work(principal, sent, lambda: metrics_from_json(sent), as_json=True)
        sender = (principal.name, principal.host if principal.host is not None else principal.token)
        known = self._reader.known(sender, body)
        if known is not None and isinstance(known.tag, Layout) and not self._admitted(principal, known.tag):
            known = None
        shape = (
            known
            if known is not None
            else await self._heavy.work(principal, body, lambda: self._learn(principal, sender, body))
        )
        points = shape.gather(body)
        if of_host and isinstance(shape.tag, Layout):
            self._hearing.note_clocks(shape.tag, points.times, arrived, behind)
        batch, outcome = self._checked(points, shape.tag, shape.skipped, arrived)
        if of_host and isinstance(shape.tag, Layout):
            self._hearing.note_refused(shape.tag, batch, outcome)
        if batch is not None:
            await self._store.accept(batch)
            if of_host:
                self._hearing.note_alive(batch)
        return outcome

    def _admitted(self, principal: Principal, layout: Layout) -> bool:
        """Whether what a known body is about is still what its sender may say."""
        return principal.scope is None or self._admission.all_allowed(
            principal, self._hearing.hosts_in(layout)[0].tolist()
        )

    def _learn(self, principal: Principal, sender: object, body: bytes) -> Shape:
        shape = self._reader.learn(sender, body, sections(body), self._resolver(principal))
        shape.tag = self._store.catalogue.layouts.of(shape.series) if len(shape.series) else None
        return shape

    def _resolver(self, principal: Principal) -> Callable[[bytes, Section], Any]:
        resources: dict[Span, tuple[Known | None, list[tuple[str, str]]]] = {}

        def resolve(body: bytes, section: Section) -> Any:
            if section.resource not in resources:
                resources[section.resource] = self._resource(principal, read_resource(body, section.resource))
            host, kept = resources[section.resource]
            return self._series_of(host, kept, body, section)

        return resolve

    def _resource(self, principal: Principal, attributes: dict[str, str]) -> tuple[Known | None, list[tuple[str, str]]]:
        if principal.host is not None:
            # An agent speaks for its own host, whatever its resource says.
            return self._directory.get(principal.host), kept_of_resource(attributes)
        host = self._admission.host_for(principal, resource_host(attributes))
        return (host, kept_of_resource(attributes)) if host is not None else (None, [])

    def _series_of(
        self, host: Known | None, kept: list[tuple[str, str]], body: bytes, section: Section
    ) -> tuple[list[Slot], Any, list[int], list[Span], bool, int]:
        read = read_metric(body, section.metric)
        catalogue = self._store.catalogue
        if host is None or not read.name or not catalogue.may_have_metric(host.id, read.name):
            return [], np.empty(0, np.int64), read.loose, read.ignored, read.variable, len(read.slots) + read.skipped
        metric = catalogue.metric(read.name, read.unit, read.kind, read.description)
        ids: list[int] = []
        slots: list[Slot] = []
        skipped = read.skipped
        for slot in read.slots:
            attributes = tuple(sorted({**dict(kept), **dict(slot.attributes)}.items())) if kept else slot.attributes
            begun = self._begun_before(host.id, metric, attributes, slot)
            try:
                ids.append(catalogue.series_id(host.id, metric, attributes, slot.part, slot.kind))
                slots.append(slot)
            except TooMany:
                skipped += 1
                continue
            if begun is not None:
                ids.append(ids[-1])
                slots.append(replace(slot, value=0.0, time=begun))
        return slots, np.array(ids, np.int64), read.loose, read.ignored, read.variable, skipped

    def _begun_before(self, host: int, metric: Metric, attributes: Attributes, slot: Slot) -> int | None:
        """When an exponential histogram was heard last, nanoseconds, for a bucket of it that comes for the first time:
        it held nothing until then. A sender that takes wider buckets moves all it counted, and nothing is known."""
        bounds = bucket_of(slot.part)
        if slot.kind != "counter" or not slot.part.startswith("in:") or bounds is None:
            return None
        catalogue = self._store.catalogue
        if catalogue.find(host, metric, attributes, slot.part, slot.kind) is not None:
            return None
        count = catalogue.find(host, metric, attributes, "count", slot.kind)
        newest = self._store.newest(count) if count is not None else None
        if newest is None or not 0 < newest < slot.time:
            return None
        for number in catalogue.series_of(metric.id, host):
            one = catalogue.series[number]
            other = bucket_of(one.part)
            if one.attributes == attributes and other is not None and _overlap(bounds, other):
                return None
        return newest

    def _checked(
        self, points: Points, layout: object, skipped: int, arrived: Nanos | None = None
    ) -> tuple[Batch | None, Outcome]:
        why = (
            f"{skipped} points have no host, no value, are for hosts that the token is not for, or are too many series"
        )
        outcome = Outcome(skipped, why) if skipped else Outcome()
        if not len(points.values) or not isinstance(layout, Layout):
            self.counters["points.rejected"] += skipped
            return None, outcome
        now = now_nanos()
        times, oldest = points.times, now - int(self._store.retention.raw * DAY)
        if (times == 0).any():
            times = np.where(times == 0, arrived or now, times)
        low, high = int(times.min()), int(times.max())
        if low >= oldest and high <= now + AHEAD:
            return self._store.batch(layout, times, points.values), outcome
        good = (times >= oldest) & (times <= now + AHEAD)
        lost = int((~good).sum())
        self.counters["points.out-of-time"] += lost
        why = (
            f"{lost} points are older than raw points are kept, or more than {AHEAD // NS} s in the future: "
            "check the sender's clock"
        )
        if not good.any():
            return None, Outcome(skipped + lost, why)
        layout = self._store.catalogue.layouts.of(layout.series[good])
        return self._store.batch(layout, times[good], points.values[good]), Outcome(skipped + lost, why)

    def forget_shapes(self) -> None:
        """A host has left: a body that was known by its shape alone is looked at anew."""
        self._reader = BodyReader(capacity=SHAPE_BYTES)

    @property
    def shape_hits(self) -> int:
        return self._reader.shapes.hits

    @property
    def shape_misses(self) -> int:
        return self._reader.shapes.misses


def _overlap(one: tuple[float, float], other: tuple[float, float]) -> bool:
    return max(one[0], other[0]) < min(one[1], other[1])
