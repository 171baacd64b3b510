"""Logs that arrive over OTLP become events, evidence, and what collectors say of themselves."""

from __future__ import annotations

import asyncio
import hashlib
import json
import math
import time
from collections import Counter, OrderedDict
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceRequest
from opentelemetry.proto.common.v1.common_pb2 import AnyValue
from opentelemetry.proto.logs.v1.logs_pb2 import LogRecord, ResourceLogs

from balise.api.spans import rfc3339
from balise.collect.otlp import EVIDENCE
from balise.core.events.new_event import NewEvent
from balise.core.events.records import check_records
from balise.core.moments import Nanos, now_nanos, seconds_of
from balise.core.series.wire import WireError, attribute_text
from balise.server.hosts.directory import Directory, Known
from balise.server.people.access import Principal
from balise.server.receive.arrivals import Arrivals
from balise.server.receive.bodies import AHEAD, DAY, HeavyBodies, Outcome, Room, kept_of_resource, resource_host
from balise.server.receive.otlp_json import parse_json
from balise.server.receive.scopes import Admission
from balise.store.events.day import Snapshot, pack_snapshot
from balise.store.events.store import Delivery, EventStore
from balise.store.state.secrets import digest as digest_of

MOST_BODY = 1 << 16
"""Characters kept of an event's body."""
MOST_ATTRIBUTES = 1 << 14
MOST_MEMBERS = 64
SENT_TIME = "balise.time.sent"
"""The attribute that keeps the time an event came with, when that cannot be its time."""
REPORT = "balise.agent.report"
SEVERITY_OF = {
    # OTLP severity number to RFC 5424 code: logs data model, appendix B, syslog.
    **dict.fromkeys(range(1, 9), 7),
    9: 6,
    **dict.fromkeys(range(10, 13), 5),
    **dict.fromkeys(range(13, 17), 4),
    17: 3,
    18: 2,
    **dict.fromkeys(range(19, 21), 1),
    **dict.fromkeys(range(21, 25), 0),
}


def severity_code(number: int, text: str) -> int:
    """The RFC 5424 code of a log record; one without a number is informational."""
    if number in SEVERITY_OF:
        return SEVERITY_OF[number]
    words = {"fatal": 0, "critical": 2, "error": 3, "warn": 4, "warning": 4, "notice": 5, "debug": 7, "trace": 7}
    return words.get(text.lower(), 6)


_AS_IT_IS = frozenset(("string_value", "int_value", "double_value", "bool_value"))


def _plain(value: AnyValue, depth: int = 0) -> Any:
    kind = value.WhichOneof("value")
    if kind in _AS_IT_IS and depth <= 8:
        return getattr(value, kind)
    if kind is None or depth > 8:
        return None
    depth += 1
    if kind == "array_value":
        return [_plain(v, depth) for v in value.array_value.values]
    if kind == "kvlist_value":
        return {kv.key: _plain(kv.value, depth) for kv in value.kvlist_value.values}
    return value.bytes_value.hex()


Taker = Callable[[int, dict[str, Any], float], None]
"""Takes what was said of a host: its id, the content, and when it was so, unix seconds."""
MOST_TOLD, MOST_SENDERS = 60, 5000


class LogIntake:
    """Reads log requests and hands their records to the event store.

    Args:
        reports: takes what an agent says of itself, with the number of its host.
        takers: who takes what a collector says that is no event, by its event name; the sender hears of it afterwards.
    """

    def __init__(
        self,
        *,
        store: EventStore,
        directory: Directory,
        room: Room,
        reports: Callable[[int, dict[str, Any]], None],
        takers: Mapping[str, Taker],
    ) -> None:
        self._store = store
        self._directory = directory
        self._reports = reports
        self._room = room
        self._admission = Admission(directory)
        self._arrivals = Arrivals(self._admission)
        self._heavy = HeavyBodies(room)
        self._takers = takers
        self.counters: Counter[str] = Counter()
        self._senders: OrderedDict[tuple[str, str], tuple[int, float]] = OrderedDict()

    async def take(
        self, principal: Principal, body: bytes, *, as_json: bool, delivery: str = "", arrived: Nanos | None = None
    ) -> Outcome:
        """Done when every record that was taken is durable. Raises as `MetricIntake.take`."""
        self._room.on_disk()
        self._admission.check_kind(principal, "logs")
        told: list[tuple[Taker, int, dict[str, Any], float]] = []
        of_agent = principal.host is not None
        groups = await self._heavy.work(principal, body, lambda: _groups_of(body, as_json, of_agent), as_json=as_json)
        if principal.host is None:
            await self._arrivals.welcome(principal, (resource_host(attributes or {}) for _, attributes in groups))
        read, outcome = await self._heavy.work(
            principal, body, lambda: self._read(principal, groups, body, delivery, arrived, told)
        )
        for take, host, content, at in told:
            await asyncio.to_thread(take, host, content, at)
        if read.events or read.snapshots:
            await self._store.accept(read)
        return outcome

    def _read(
        self,
        principal: Principal,
        groups: Sequence[tuple[ResourceLogs, dict[str, str] | None]],
        body: bytes,
        delivery: str,
        arrived: Nanos | None,
        told: list[tuple[Taker, int, dict[str, Any], float]],
    ) -> tuple[Delivery, Outcome]:
        events: list[NewEvent] = []
        snapshots: list[Snapshot] = []
        rejected = ahead = 0
        now = arrived or now_nanos()
        for resource, attributes in groups:
            host = self._host(principal, attributes or {})
            for scope in resource.scope_logs:
                if host is None:
                    rejected += len(scope.log_records)
                    continue
                for record in scope.log_records:
                    if principal.host is not None and record.event_name.startswith("balise."):
                        self._told(host, record, snapshots, told, now)
                    else:
                        ahead += _said(record, now) > now + AHEAD
                        attributes = _attributes(resource) if attributes is None else attributes
                        events.append(_event(host.name, attributes, scope.scope.name, record, now))
            if host:
                self._directory.heard(host.id, seconds_of(now), time.time())
                if principal.host is None:
                    self._count(host.name, principal.name, sum(len(s.log_records) for s in resource.scope_logs))
        oldest = now - int(self._store.keep_days * DAY)
        kept = [e for e in events if e.time >= oldest]
        late = len(events) - len(kept)
        self.counters["events.too-old"] += late
        self.counters["events.rejected"] += rejected
        # Under a name that was used before, other content is another delivery.
        name = _name_of(principal, delivery, body) if delivery else None
        no_host = f"{rejected} records have no host, or one that the token is not for"
        why = f"{no_host}; {late} are older than events are kept" if rejected or late else ""
        if ahead:
            said = f"{ahead} records are of a time that has not come yet: they are kept as of now, with {SENT_TIME}"
            why = f"{why}; {said}" if why else said
        return Delivery(kept, snapshots, name), Outcome(rejected + late, why)

    def _count(self, host: str, sender: str, records: int) -> None:
        before, _ = self._senders.pop((host, sender), (0, 0.0))
        self._senders[host, sender] = (before + records, time.time())
        if len(self._senders) > MOST_SENDERS:
            self._senders.popitem(last=False)

    def senders(self) -> dict[tuple[str, str], tuple[int, float]]:
        """By host and sender that is no agent: how many records came since the service began, and when last."""
        return dict(self._senders)

    def _host(self, principal: Principal, attributes: dict[str, str]) -> Known | None:
        if principal.host is not None:
            return self._directory.get(principal.host)
        return self._admission.host_for(principal, resource_host(attributes))

    def _told(
        self,
        host: Known,
        record: LogRecord,
        snapshots: list[Snapshot],
        told: list[tuple[Taker, int, dict[str, Any], float]],
        now: Nanos,
    ) -> None:
        """What an agent says that is no event: evidence it kept, and its report of itself."""
        if record.event_name.startswith(EVIDENCE):
            kind = record.event_name[len(EVIDENCE) :][:40]
            snapshots.append(Snapshot(_moment(record, now), host.name, kind, _kept_evidence(record.body)))
            return
        content = _plain(record.body)
        if record.event_name == REPORT and isinstance(content, dict):
            self._reports(host.id, content)
        elif record.event_name in self._takers and isinstance(content, dict) and len(told) < MOST_TOLD:
            told.append((self._takers[record.event_name], host.id, content, seconds_of(_moment(record, now))))


def _name_of(principal: Principal, delivery: str, body: bytes) -> bytes:
    whose = f"{principal.name} {principal.host} {delivery} {hashlib.sha256(body).hexdigest()}"
    return digest_of(whose).encode()[:32]


def _kept_evidence(value: AnyValue) -> str | bytes:
    """Evidence as it is taken: agents tell it as JSON, which is packed where it is written."""
    return value.string_value if value.WhichOneof("value") == "string_value" else pack_snapshot(_plain(value))


def _groups_of(body: bytes, as_json: bool, of_agent: bool) -> list[tuple[ResourceLogs, dict[str, str] | None]]:
    """What a body says, resource by resource, with what each says of itself, as text; None of an agent's, which comes
    without events most of the time."""
    request = ExportLogsServiceRequest()
    if as_json:
        parse_json(body, request)
    else:
        check_records(body)
        try:
            request.ParseFromString(body)
        except Exception:  # noqa: BLE001  the parser's own error class differs between its builds
            raise WireError("the body is no OTLP logs request") from None
    return [(group, None if of_agent else _attributes(group)) for group in request.resource_logs]


def _attributes(group: ResourceLogs) -> dict[str, str]:
    """What a resource says of itself, as text."""
    return {kv.key: attribute_text(_plain(kv.value)) for kv in group.resource.attributes}


def _said(record: LogRecord, now: Nanos) -> Nanos:
    return Nanos(record.time_unix_nano or record.observed_time_unix_nano or now)


def _moment(record: LogRecord, now: Nanos) -> Nanos:
    at = _said(record, now)
    return at if 0 < at <= now + AHEAD else now


def _kept_value(value: Any) -> Any:
    """An attribute of an event as it is kept: numbers, bools, lists of plain values, and all else as text."""
    if isinstance(value, list) and len(value) <= MOST_MEMBERS and not any(isinstance(v, list | dict) for v in value):
        return [_kept_value(member) for member in value if member is not None]
    if isinstance(value, bool) or (isinstance(value, int | float) and math.isfinite(value)):
        return value
    return attribute_text(value)


def _event(host: str, resource: dict[str, str], scope: str, record: LogRecord, now: Nanos) -> NewEvent:
    attributes: dict[str, Any] = dict(kept_of_resource(resource))
    for kv in record.attributes[:64]:
        attributes[kv.key[:255]] = _kept_value(_plain(kv.value))
    if _said(record, now) > now + AHEAD:
        attributes[SENT_TIME] = rfc3339(seconds_of(_said(record, now)))
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
