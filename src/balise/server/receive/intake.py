"""What arrives over OTLP becomes batches and events."""

from __future__ import annotations

import asyncio
import hashlib
import json
import logging
import math
import time
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any, TypeVar

import numpy as np
from google.protobuf import json_format
from numpy.typing import NDArray
from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceRequest
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest
from opentelemetry.proto.common.v1.common_pb2 import AnyValue
from opentelemetry.proto.logs.v1.logs_pb2 import LogRecord

from balise.api.spans import rfc3339
from balise.core.events.records import check_records
from balise.core.series.percentiles import bucket_of
from balise.core.series.shapes import BodyReader, Points
from balise.core.series.wire import (
    Section,
    Slot,
    Span,
    WireError,
    attribute_text,
    check_json,
    read_metric,
    read_resource,
    sections,
)
from balise.server.hosts.clocks import Clocks
from balise.server.hosts.directory import Directory, Known
from balise.server.people.access import Principal
from balise.server.receive.scopes import Admission
from balise.server.turns import Turns
from balise.store.events.day import NewEvent, Snapshot
from balise.store.events.store import Delivery, EventStore, pack_snapshot
from balise.store.series.catalogue import Attributes, Layout, Metric, TooMany
from balise.store.series.head import Batch
from balise.store.series.store import SeriesStore
from balise.store.state.secrets import digest as digest_of

T = TypeVar("T")
I64 = NDArray[np.int64]
NS = 1_000_000_000
DAY = 86_400 * NS
AHEAD = 600 * NS
"""How far in the future a time may lie: beyond it a sender's clock is wrong."""
SHAPE_BYTES = 96 << 20
LIGHT = 16 << 10
"""Bytes of a body that is read in less time than it takes to hand it to another thread's turn."""
MOST_BODY = 1 << 16
"""Characters kept of an event's body."""
MOST_ATTRIBUTES = 1 << 14
MOST_MEMBERS = 64
SENT_TIME = "balise.time.sent"
"""The attribute that keeps the time an event came with, when that cannot be its time."""
EVIDENCE = "balise.evidence."
REPORT = "balise.agent.report"
_ASIDE = ("host.", "os.", "telemetry.", "process.")
log = logging.getLogger(__name__)


@dataclass(frozen=True)
class Outcome:
    """What became of a request: how many of its points or records were not taken, and why."""

    rejected: int = 0
    why: str = ""


@dataclass(frozen=True)
class Room:
    """Asked before a body is taken, and before a large one is read; each raises Busy when there is no room."""

    on_disk: Callable[[], None]
    in_memory: Callable[[], None]


class HeavyBodies:
    """Reads bodies that take long beside the loop, a few at once and one of each sender."""

    def __init__(self, room: Room) -> None:
        self._room = room
        self._turns = Turns(2, 1, waiting=400)

    async def work(self, principal: Principal, body: bytes, read: Callable[[], T], *, as_json: bool = False) -> T:
        """What `read` makes of a body.

        Raises:
            TooLarge: there is more JSON than is read at once.
            Refused: 429 or 503 when too much waits.
        """
        if as_json:
            check_json(body)
        if len(body) <= LIGHT and not as_json:
            return read()
        self._room.in_memory()
        async with self._turns.of(f"{principal.name} {principal.host}"):
            return await asyncio.to_thread(read)


def resource_host(attributes: dict[str, str]) -> str:
    """The host a resource stands for: its `host.name`, else its service's name."""
    return attributes.get("host.name") or attributes.get("service.name") or ""


def kept_of_resource(attributes: dict[str, str]) -> list[tuple[str, str]]:
    """What of a resource tells its series apart; facts of the host and of the process do not."""
    return [(k, v) for k, v in attributes.items() if not k.startswith(_ASIDE)]


class MetricIntake:
    """Reads metric requests and hands their points to the series store."""

    def __init__(self, store: SeriesStore, directory: Directory, clocks: Clocks, room: Room) -> None:
        self._store = store
        self._directory = directory
        self._clocks = clocks
        self._room = room
        self._admission = Admission(directory)
        self._heavy = HeavyBodies(room)
        self._reader = BodyReader(capacity=SHAPE_BYTES)
        self._hosts_of: dict[int, tuple[I64, I64]] = {}
        self.counters: Counter[str] = Counter()

    async def take(
        self,
        principal: Principal,
        body: bytes,
        *,
        as_json: bool,
        arrived: int | None = None,
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
            body = await self._heavy.work(principal, sent, lambda: _metrics_from_json(sent), as_json=True)
        sender = (principal.name, principal.host if principal.host is not None else principal.token)
        shape = self._reader.known(sender, body)
        if shape is not None and isinstance(shape.tag, Layout) and not self._admitted(principal, shape.tag):
            shape = None
        if shape is None:
            shape = await self._heavy.work(principal, body, lambda: self._learn(principal, sender, body))
        points = shape.gather(body)
        if of_host and isinstance(shape.tag, Layout):
            self._note_clocks(shape.tag, points.times, arrived, behind)
        batch, outcome = self._checked(points, shape.tag, shape.skipped, arrived)
        if of_host and isinstance(shape.tag, Layout):
            self._note_refused(shape.tag, batch, outcome)
        if batch is not None:
            await self._store.accept(batch)
            if of_host:
                self._note_heard(batch)
        return outcome

    def _admitted(self, principal: Principal, layout: Layout) -> bool:
        """Whether what a known body is about is still what its sender may say."""
        return principal.scope is None or self._admission.all_allowed(principal, self._hosts_in(layout)[0].tolist())

    def _learn(self, principal: Principal, sender: object, body: bytes) -> Any:
        shape = self._reader.learn(sender, body, sections(body), self._resolver(principal))  # type: ignore[arg-type]
        shape.tag = self._store.catalogue.layout(shape.series) if len(shape.series) else None
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
        self, points: Points, layout: object, skipped: int, arrived: int | None = None
    ) -> tuple[Batch | None, Outcome]:
        why = (
            f"{skipped} points have no host, no value, are for hosts that the token is not for, or are too many series"
        )
        outcome = Outcome(skipped, why) if skipped else Outcome()
        if not len(points.values) or not isinstance(layout, Layout):
            self.counters["points.rejected"] += skipped
            return None, outcome
        now = time.time_ns()
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
        layout = self._store.catalogue.layout(layout.series[good])
        return self._store.batch(layout, times[good], points.values[good]), Outcome(skipped + lost, why)

    def _note_refused(self, layout: Layout, batch: Batch | None, outcome: Outcome) -> None:
        """Hosts of which nothing was taken say so, until something is."""
        if batch is None or batch.layout is not layout:
            taken = set(self._hosts_in(batch.layout)[0].tolist()) if batch is not None else set()
            for host in set(self._hosts_in(layout)[0].tolist()) - taken:
                self._directory.refused(host, f"nothing it sends is taken: {outcome.why}")

    def _note_heard(self, batch: Batch) -> None:
        now = time.time()
        for host, newest in self._newest_of_hosts(batch.layout, batch.times):
            self._directory.heard(host, newest / NS, now)

    def _note_clocks(self, layout: Layout, times: I64, arrived: int | None, behind: float | None) -> None:
        """Measures the clock of each host, also by points that will not be taken."""
        for host, newest in self._newest_of_hosts(layout, times):
            if behind is not None:
                self._clocks.told(host, behind)
            elif newest:
                self._clocks.aged(host, newest / NS, arrived / NS if arrived else time.time())

    def _newest_of_hosts(self, layout: Layout, times: I64) -> list[tuple[int, int]]:
        """The hosts of a layout, each with the newest of its times, nanoseconds."""
        hosts, index = self._hosts_in(layout)
        if len(times) == 1 or len(hosts) == 1:
            return [(host, int(times.max())) for host in hosts.tolist()]
        newest = np.zeros(len(hosts), np.int64)
        np.maximum.at(newest, index, times)
        return list(zip(hosts.tolist(), newest.tolist(), strict=True))

    def _hosts_in(self, layout: Layout) -> tuple[I64, I64]:
        """The hosts of a layout, and of each of its series which of those."""
        found = self._hosts_of.get(layout.id)
        if found is None:
            if len(self._hosts_of) > 200_000:
                self._hosts_of.clear()
            series = self._store.catalogue.series
            hosts = np.array([series[s].host for s in layout.series.tolist()], np.int64)
            found = self._hosts_of[layout.id] = np.unique(hosts, return_inverse=True)
        return found

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


def _metrics_from_json(body: bytes) -> bytes:
    request = ExportMetricsServiceRequest()
    _parse_json(body, request)
    return request.SerializeToString()


def _parse_json(body: bytes, request: Any) -> None:
    try:
        content = json.loads(body)
        if not isinstance(content, dict):
            raise ValueError("an object is expected")
        json_format.ParseDict(_without_ids(content), request, ignore_unknown_fields=True, max_recursion_depth=32)
    except SystemError:
        # What the library raises where it looks such a text up as a name.
        raise WireError("the body is no OTLP JSON: a text has half of a surrogate pair") from None
    except (ValueError, TypeError, AttributeError, RecursionError, json_format.ParseError) as error:
        raise WireError(f"the body is no OTLP JSON: {str(error)[:200]}") from None


def _without_ids(content: Any, depth: int = 0) -> Any:
    """Trace and span ids are hexadecimal in OTLP JSON, where protobuf's JSON expects base64."""
    if depth > 40:
        raise WireError("the JSON is nested too deep")
    if isinstance(content, dict):
        return {
            k: _without_ids(v, depth + 1)
            for k, v in content.items()
            if k not in ("traceId", "spanId", "trace_id", "span_id")
        }
    if isinstance(content, list):
        return [_without_ids(v, depth + 1) for v in content]
    return content


_SEVERITY = [7] * 9 + [6] + [5] * 3 + [3 + 1] * 4 + [3, 2, 1, 1] + [0] * 4
"""OTLP severity number to RFC 5424 code: logs data model, appendix B, syslog."""


def severity_code(number: int, text: str) -> int:
    """The RFC 5424 code of a log record; one without a number is informational."""
    if 0 < number < len(_SEVERITY):
        return _SEVERITY[number]
    words = {"fatal": 0, "critical": 2, "error": 3, "warn": 4, "warning": 4, "notice": 5, "debug": 7, "trace": 7}
    return words.get(text.lower(), 6)


def _plain(value: AnyValue, depth: int = 0) -> Any:
    kind = value.WhichOneof("value")
    if kind is None or depth > 8:
        return None
    if kind == "array_value":
        return [_plain(v, depth + 1) for v in value.array_value.values]
    if kind == "kvlist_value":
        return {kv.key: _plain(kv.value, depth + 1) for kv in value.kvlist_value.values}
    if kind == "bytes_value":
        return value.bytes_value.hex()
    return getattr(value, kind)


Aside = Callable[[int, dict[str, Any], float], None]
"""Takes what was said of a host: its id, the content, and when it was so, unix seconds."""
MOST_ASIDES = 60


class LogIntake:
    """Reads log requests and hands their records to the event store."""

    def __init__(
        self,
        store: EventStore,
        directory: Directory,
        on_report: Callable[[int, dict[str, Any]], None],
        room: Room,
    ) -> None:
        self._store = store
        self._directory = directory
        self._on_report = on_report
        self._room = room
        self._admission = Admission(directory)
        self._heavy = HeavyBodies(room)
        self.asides: dict[str, Aside] = {}
        """Who takes what a collector says that is no event, by its event name; kept before the sender hears of it."""
        self.counters: Counter[str] = Counter()

    async def take(
        self, principal: Principal, body: bytes, *, as_json: bool, delivery: str = "", arrived: int | None = None
    ) -> Outcome:
        """Done when every record that was taken is durable. Raises as `MetricIntake.take`."""
        self._room.on_disk()
        self._admission.check_kind(principal, "logs")
        asides: list[tuple[Aside, int, dict[str, Any], float]] = []
        read, outcome = await self._heavy.work(
            principal, body, lambda: self._read(principal, body, as_json, delivery, arrived, asides), as_json=as_json
        )
        for take, host, content, at in asides:
            await asyncio.to_thread(take, host, content, at)
        if read.events or read.snapshots:
            await self._store.accept(read)
        return outcome

    def _read(
        self,
        principal: Principal,
        body: bytes,
        as_json: bool,
        delivery: str,
        arrived: int | None,
        asides: list[tuple[Aside, int, dict[str, Any], float]],
    ) -> tuple[Delivery, Outcome]:
        request = ExportLogsServiceRequest()
        if as_json:
            _parse_json(body, request)
        else:
            check_records(body)
            try:
                request.ParseFromString(body)
            except Exception:  # noqa: BLE001  the parser's own error class differs between its builds
                raise WireError("the body is no OTLP logs request") from None
        events: list[NewEvent] = []
        snapshots: list[Snapshot] = []
        rejected = ahead = 0
        now = arrived or time.time_ns()
        for resource in request.resource_logs:
            attributes = {kv.key: attribute_text(_plain(kv.value)) for kv in resource.resource.attributes}
            host = self._host(principal, attributes)
            for scope in resource.scope_logs:
                if host is None:
                    rejected += len(scope.log_records)
                    continue
                for record in scope.log_records:
                    if principal.host is not None and record.event_name.startswith("balise."):
                        self._aside(host, record, snapshots, asides, now)
                    else:
                        ahead += _said(record, now) > now + AHEAD
                        events.append(_event(host.name, attributes, scope.scope.name, record, now))
            if host:
                self._directory.heard(host.id, now / NS, time.time())
        oldest = now - int(self._store.keep_days * DAY)
        kept = [e for e in events if e.time >= oldest]
        late = len(events) - len(kept)
        self.counters["events.too-old"] += late
        self.counters["events.rejected"] += rejected
        # Under a name that was used before, other content is another delivery.
        whose = f"{principal.name} {principal.host} {delivery} {hashlib.sha256(body).hexdigest()}"
        name = digest_of(whose).encode()[:32] if delivery else None
        no_host = f"{rejected} records have no host, or one that the token is not for"
        why = f"{no_host}; {late} are older than events are kept" if rejected or late else ""
        if ahead:
            said = f"{ahead} records are of a time that has not come yet: they are kept as of now, with {SENT_TIME}"
            why = f"{why}; {said}" if why else said
        return Delivery(kept, snapshots, name), Outcome(rejected + late, why)

    def _host(self, principal: Principal, attributes: dict[str, str]) -> Known | None:
        if principal.host is not None:
            return self._directory.get(principal.host)
        return self._admission.host_for(principal, resource_host(attributes))

    def _aside(
        self,
        host: Known,
        record: LogRecord,
        snapshots: list[Snapshot],
        asides: list[tuple[Aside, int, dict[str, Any], float]],
        now: int,
    ) -> None:
        """What an agent says that is no event: evidence it kept, and its report of itself."""
        content = _plain(record.body)
        if record.event_name == REPORT and isinstance(content, dict):
            self._on_report(host.id, content)
        elif record.event_name in self.asides and isinstance(content, dict) and len(asides) < MOST_ASIDES:
            asides.append((self.asides[record.event_name], host.id, content, _moment(record, now) / NS))
        elif record.event_name.startswith(EVIDENCE):
            kind = record.event_name[len(EVIDENCE) :][:40]
            snapshots.append(Snapshot(_moment(record, now), host.name, kind, pack_snapshot(content)))


def _said(record: LogRecord, now: int) -> int:
    return int(record.time_unix_nano or record.observed_time_unix_nano or now)


def _moment(record: LogRecord, now: int) -> int:
    at = _said(record, now)
    return at if 0 < at <= now + AHEAD else now


def _kept_value(value: Any) -> Any:
    """An attribute of an event as it is kept: numbers, bools, lists of plain values, and all else as text."""
    if isinstance(value, list) and len(value) <= MOST_MEMBERS and not any(isinstance(v, list | dict) for v in value):
        return [_kept_value(member) for member in value if member is not None]
    if isinstance(value, bool) or (isinstance(value, int | float) and math.isfinite(value)):
        return value
    return attribute_text(value)


def _event(host: str, resource: dict[str, str], scope: str, record: LogRecord, now: int) -> NewEvent:
    attributes: dict[str, Any] = dict(kept_of_resource(resource))
    for kv in record.attributes[:64]:
        attributes[kv.key[:255]] = _kept_value(_plain(kv.value))
    if _said(record, now) > now + AHEAD:
        attributes[SENT_TIME] = rfc3339(_said(record, now) / NS)
    if record.trace_id:
        attributes["trace_id"] = record.trace_id.hex()
    if record.event_name:
        attributes["event.name"] = record.event_name[:255]
    source = str(attributes.pop("balise.source", "") or resource.get("service.name") or scope or "otlp")[:100]
    content = _plain(record.body)
    body = content if isinstance(content, str) else json.dumps(content, ensure_ascii=False, default=str)
    packed = json.dumps(attributes, ensure_ascii=False, separators=(",", ":")) if attributes else None
    if packed and len(packed) > MOST_ATTRIBUTES:
        packed = json.dumps({"balise.cut": "the attributes were too large to keep"})
    return NewEvent(
        time=_moment(record, now),
        host=host,
        severity=severity_code(record.severity_number, record.severity_text),
        source=source,
        body=body[:MOST_BODY].replace("\x00", ""),
        attributes=packed,
    )
