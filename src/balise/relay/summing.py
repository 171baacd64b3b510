"""Adding up what plans say, and sending the sums on."""

from __future__ import annotations

import asyncio
import logging
import sqlite3
import time
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest
from opentelemetry.proto.common.v1.common_pb2 import AnyValue, KeyValue
from opentelemetry.proto.metrics.v1.metrics_pb2 import AggregationTemporality
from opentelemetry.proto.resource.v1.resource_pb2 import Resource

from balise import __version__
from balise.api.relays import SITES_SUMS, Frame, SumPlan, pack
from balise.core.moments import NS, now_nanos
from balise.relay.amounts import Kind, picked, points_in, take_out
from balise.relay.buffer import Buffer
from balise.relay.gathering import Gathering
from balise.relay.sums import Added, Sums, Total

log = logging.getLogger(__name__)
SITES = "site."
"""How names of metrics that are sums begin."""
HOSTS = "balise.site.hosts"
LOOK_EVERY = 5.0
FORGET_EVERY = 3600.0


class Summing:
    """The sums of a relay called `relay`, from what hosts deliver until they are in its buffer."""

    def __init__(self, path: Path, buffer: Buffer, relay: str) -> None:
        self._path = path
        self._buffer = buffer
        self._relay = relay
        self._sums: Sums | None = None
        self._gathering: Gathering[Added] | None = None
        self._plans: dict[int, SumPlan] = {}
        self._forgot_at = time.monotonic()

    def _opened(self) -> tuple[Sums, Gathering[Added]]:
        """The sums, and where they are added to. Raises OSError when they cannot be opened."""
        if self._sums is None or self._gathering is None:
            try:
                self._sums = opened(self._path)
            except sqlite3.Error as error:
                raise OSError(0, f"sums cannot be kept: {error}") from None
            self._gathering = Gathering(self._sums.add)
        return self._sums, self._gathering

    @property
    def added(self) -> int:
        """Amounts that came to be added since the start."""
        return self._sums.added if self._sums is not None else 0

    @property
    def left_out(self) -> int:
        """Those of them that are in no sum."""
        return self._sums.left_out if self._sums is not None else 0

    def set_plans(self, plans: Iterable[SumPlan]) -> None:
        """What is added up of which hosts from now on."""
        self._plans = {host: plan for plan in plans for host in plan.hosts}

    async def add(self, frame: Frame, body: bytes, host: int) -> bytes | None:
        """Adds what is in a body of a host, durably; answers what of it is sent on besides, None for nothing.

        Raises:
            OSError: it cannot be written.
        """
        plan = self._plans.get(host)
        if plan is None:
            return body
        amounts, left = await asyncio.to_thread(_read, body, plan)
        if amounts:
            _, gathering = self._opened()
            await gathering.put(Added(plan.plan, round(plan.every * NS), host, frame.sender, frame.at, amounts))
        return left

    async def turn(self) -> float:
        """Sends on the sums of steps that are over."""
        if self._path.exists():
            sums, _ = self._opened()
            await self._send(sums)
            if time.monotonic() - self._forgot_at > FORGET_EVERY:
                self._forgot_at = time.monotonic()
                await asyncio.to_thread(sums.forget, now_nanos())
        return LOOK_EVERY

    async def _send(self, sums: Sums) -> None:
        await asyncio.to_thread(sums.close_due, now_nanos())
        while totals := await asyncio.to_thread(sums.closed):
            for end, every in sorted({(one.end, one.every) for one in totals}):
                body = request_of([one for one in totals if (one.end, one.every) == (end, every)], self._relay)
                frame = Frame(sender=SITES_SUMS, kind="metrics", delivery=f"sums-{end}", at=end)
                await self._buffer.put(pack(frame, body))
            await asyncio.to_thread(sums.sent, totals)

    async def close(self) -> None:
        if self._gathering is not None:
            await self._gathering.close()
        if self._sums is not None:
            self._sums.close()


def opened(path: Path) -> Sums:
    """The sums at a path. A file that is damaged is put beside it, and they begin anew.

    Raises:
        sqlite3.Error: it cannot be opened.
    """
    try:
        return Sums(path)
    except sqlite3.DatabaseError as error:
        if isinstance(error, sqlite3.OperationalError):
            raise
        log.error("file=%s is damaged, and put beside: %s", path, error)
        path.replace(path.with_name(f"{path.name}.damaged"))
        for suffix in ("-wal", "-shm"):
            path.with_name(f"{path.name}{suffix}").unlink(missing_ok=True)
        return Sums(path)


def _read(body: bytes, plan: SumPlan) -> tuple[Sequence[Any], bytes | None]:
    request = ExportMetricsServiceRequest.FromString(body)
    amounts = list(picked(request, plan.metrics))
    if not plan.only or not amounts:
        return amounts, body
    take_out(request, plan.metrics)
    return amounts, request.SerializeToString() if points_in(request) else None


def request_of(totals: Sequence[Total], relay: str) -> bytes:
    """The sums of one step as an ExportMetricsServiceRequest: levels as gauges, what was added as amounts (delta)."""
    request = ExportMetricsServiceRequest()
    scope = request.resource_metrics.add().scope_metrics.add()
    scope.scope.name, scope.scope.version = "balise.relay", __version__
    made: dict[tuple[str, str, bool], Any] = {}
    whole: dict[tuple[Any, ...], dict[str, Total]] = defaultdict(dict)
    for one in totals:
        whole[(one.plan, one.kind.metric, one.kind.attributes)][one.kind.part] = one
    counted = []
    for (plan, name, _), parts in whole.items():
        first = next(iter(parts.values()))
        point = _held(scope, made, first.kind).data_points.add()
        point.time_unix_nano = first.end
        _point(point, first, parts)
        _attributes(point, first.kind, {"balise.plan": plan, "balise.relay": relay})
        counted.append((name, first.hosts, point))
    counts = scope.metrics.add(name=HOSTS, unit="{host}", description="how many hosts are in a sum")
    for name, count, point in counted:
        said = counts.gauge.data_points.add(time_unix_nano=point.time_unix_nano, as_double=float(count))
        said.attributes.extend([*point.attributes, *_pairs({"metric": name})])
    return request.SerializeToString()


def _held(scope: Any, made: dict[tuple[str, str, bool], Any], kind: Kind) -> Any:
    """The place for points of a kind; metrics are made when their first comes."""
    key = (kind.metric, kind.how, bool(kind.part))
    if key not in made:
        metric = scope.metrics.add(name=SITES + kind.metric, unit=kind.unit)
        held = metric.histogram if kind.part else metric.gauge if kind.how == "level" else metric.sum
        held.SetInParent()
        if kind.how != "level":
            held.aggregation_temporality = AggregationTemporality.AGGREGATION_TEMPORALITY_DELTA
        if kind.how == "counter" and not kind.part:
            held.is_monotonic = True
        made[key] = held
    return made[key]


def _point(point: Any, one: Total, parts: Mapping[str, Total]) -> None:
    if one.kind.how != "level":
        point.start_time_unix_nano = one.end - one.every
    if not one.kind.part:
        point.as_double = one.value
        return
    point.count = round(parts["count"].value) if "count" in parts else 0
    if "sum" in parts:
        point.sum = parts["sum"].value
    point.explicit_bounds.extend(one.kind.bounds)
    if any(part.isdecimal() for part in parts):
        point.bucket_counts.extend(
            round(parts[str(place)].value) if str(place) in parts else 0 for place in range(len(one.kind.bounds) + 1)
        )


def _attributes(point: Any, kind: Kind, more: Mapping[str, str]) -> None:
    point.attributes.extend(Resource.FromString(kind.attributes).attributes)
    point.attributes.extend(_pairs(more))


def _pairs(values: Mapping[str, str]) -> list[KeyValue]:
    return [KeyValue(key=key, value=AnyValue(string_value=value)) for key, value in values.items()]
