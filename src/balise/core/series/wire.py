"""Walking OTLP metric requests on the wire, so that the place of every value is known.

The ordinary protobuf classes give values but not where they stood; the shape cache (`shapes`) needs both.
Field numbers are those of opentelemetry/proto/metrics/v1/metrics.proto and common/v1/common.proto; the wire
format is the one of the Protocol Buffers encoding specification.
"""

from __future__ import annotations

import json
import math
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice
from typing import Literal

Kind = Literal["gauge", "counter", "delta", "sum", "histogram", "summary"]
PointKind = Literal["gauge", "counter", "delta", "sum"]
Attributes = tuple[tuple[str, str], ...]
Trait = tuple[Attributes, str, PointKind]
"""Attributes, part and kind: what tells series of one host and metric apart."""
MAX_ATTRIBUTES = 64
MAX_TEXT = 1024
MAX_BUCKETS = 250
MAX_EXPONENTIAL = 500
"""Buckets of one exponential histogram at the kept scale: each side of an SDK's has 160 at most."""
_MAX_NESTING = 8

_F64 = struct.Struct("<d")
_I64 = struct.Struct("<q")
_U64 = struct.Struct("<Q")


MOST_JSON = 4 << 20
MOST_NUMBERS = 200_000
"""Metrics of a body, and numbers that are kept of it."""


class WireError(ValueError):
    """The bytes are no OTLP metrics request."""


Span = tuple[int, int]


class TooLarge(WireError):
    """There is more in a body than is read at once."""

    def __init__(self, most: int, what: str) -> None:
        super().__init__(f"the body has more than {most} {what}: send it in parts")


def check_json(body: bytes) -> None:
    """Raises TooLarge for more JSON than is read at once: it takes thirty times its size meanwhile."""
    if len(body) > MOST_JSON:
        raise TooLarge(MOST_JSON, "bytes of JSON")


Field = tuple[int, int, int, int]
"""Field number, wire type, start, end. For wire type 0 `start` holds the value itself."""


def _varint(body: bytes, at: int, end: int) -> tuple[int, int]:
    value = shift = 0
    while at < end:
        byte = body[at]
        at += 1
        value |= (byte & 0x7F) << shift
        if byte < 0x80:
            return value & 0xFFFFFFFFFFFFFFFF, at
        shift += 7
        if shift > 63:
            break
    raise WireError("a number runs past its end: these bytes are no protobuf")


def fields(body: bytes, at: int, end: int) -> Iterator[Field]:
    """The fields between `at` and `end`, without copying any of them."""
    while at < end:
        tag, at = _varint(body, at, end)
        number, kind = tag >> 3, tag & 7
        if number == 0:
            raise WireError("field number 0: these bytes are no protobuf")
        if kind == 0:
            value, at = _varint(body, at, end)
            yield number, 0, value, at
            continue
        if kind == 1:
            start, at = at, at + 8
        elif kind == 2:
            length, start = _varint(body, at, end)
            at = start + length
        elif kind == 5:
            start, at = at, at + 4
        else:
            raise WireError(f"wire type {kind}: these bytes are no protobuf")
        if at > end:
            raise WireError("a field runs past its end: the body is cut or no protobuf")
        yield number, kind, start, at


def _text(body: bytes, start: int, end: int) -> str:
    try:
        return body[start:end].decode("utf-8")
    except UnicodeDecodeError:
        raise WireError("a string is not UTF-8") from None


def _any_value(body: bytes, start: int, end: int, depth: int) -> object:
    value: object = None
    for number, kind, at, to in fields(body, start, end):
        if number == 1 and kind == 2:
            value = _text(body, at, to)
        elif number == 2 and kind == 0:
            value = bool(at)
        elif number == 3 and kind == 0:
            value = at - (1 << 64) if at >> 63 else at
        elif number == 4 and kind == 1:
            value = _F64.unpack_from(body, at)[0]
        elif number == 7 and kind == 2:
            value = body[at:to].hex()
        elif number in (5, 6) and kind == 2 and depth < _MAX_NESTING:
            value = _nested(body, at, to, number, depth + 1)
    return value


def _nested(body: bytes, start: int, end: int, number: int, depth: int) -> object:
    if number == 5:
        return [_any_value(body, at, to, depth) for n, kind, at, to in fields(body, start, end) if n == 1 and kind == 2]
    pairs = (_key_value(body, at, to, depth) for n, kind, at, to in fields(body, start, end) if n == 1 and kind == 2)
    return dict(pairs)


def _key_value(body: bytes, start: int, end: int, depth: int = 0) -> tuple[str, object]:
    key, value = "", None
    for number, kind, at, to in fields(body, start, end):
        if number == 1 and kind == 2:
            key = _text(body, at, to)
        elif number == 2 and kind == 2:
            value = _any_value(body, at, to, depth)
    return key, value


def attribute_text(value: object) -> str:
    """An attribute's value as the text it is compared by: `true`, `3`, `0.5`, JSON for what is nested."""
    if isinstance(value, str):
        return value[:MAX_TEXT]
    if isinstance(value, bool):
        return "true" if value else "false"
    if value is None:
        return ""
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return str(int(value))
    if isinstance(value, int | float):
        return repr(value)
    return json.dumps(value, sort_keys=True, default=str)[:MAX_TEXT]


def read_attributes(body: bytes, spans: list[Span]) -> tuple[tuple[str, str], ...]:
    """Sorted key and text pairs; of a repeated key the last counts."""
    pairs: dict[str, str] = {}
    for start, end in spans[:MAX_ATTRIBUTES]:
        key, value = _key_value(body, start, end)
        if key:
            pairs[key[:255]] = attribute_text(value)
    return tuple(sorted(pairs.items()))


def text_span(body: bytes, span: Span) -> tuple[str, Span] | None:
    """The key of an attribute, and where its value stands, if that is one text and nothing beside it."""
    parts = list(fields(body, *span))
    if [part[:2] for part in parts] != [(1, 2), (2, 2)]:
        return None
    inside = list(fields(body, *parts[1][2:]))
    if [part[:2] for part in inside] != [(1, 2)]:
        return None
    return _text(body, *parts[0][2:])[:255], inside[0][2:]


def short_text(body: bytes, span: Span) -> str:
    """A text as it is kept. Raises WireError for what is none."""
    return _text(body, *span)[:MAX_TEXT]


@dataclass(frozen=True)
class Section:
    """One metric of a request: where its resource and its own bytes stand."""

    resource: Span
    metric: Span


def sections(body: bytes) -> list[Section]:
    """The metrics of an ExportMetricsServiceRequest, in order.

    Raises:
        WireError: when the bytes are no such request.
        TooLarge: when there are more metrics than `MOST_NUMBERS`.
    """
    found: list[Section] = []
    for number, kind, start, end in fields(body, 0, len(body)):
        if number != 1 or kind != 2:
            continue
        parts = [(n, at, to) for n, k, at, to in fields(body, start, end) if k == 2]
        resource = next(((at, to) for n, at, to in parts if n == 1), (start, start))
        for n, at, to in parts:
            if n == 2:
                metrics = (f for f in fields(body, at, to) if f[0] == 2 and f[1] == 2)
                room = MOST_NUMBERS + 1 - len(found)
                found.extend(Section(resource, (f[2], f[3])) for f in islice(metrics, room))
                if len(found) > MOST_NUMBERS:
                    raise TooLarge(MOST_NUMBERS, "metrics")
    return found


def read_resource(body: bytes, span: Span) -> dict[str, str]:
    """The attributes of a resource."""
    spans = [(at, to) for n, k, at, to in fields(body, *span) if n == 1 and k == 2]
    return dict(read_attributes(body, spans))


@dataclass(frozen=True, slots=True)
class Slot:
    """One number of one data point, and the place of its 8 bytes.

    `value_at` or `time_at` of -1 says that the number is not in the bytes (a zero left out by the encoder,
    or computed from variable-length fields): then `value` and `time` hold it.
    """

    attributes: tuple[tuple[str, str], ...]
    part: str
    kind: PointKind
    value_at: int
    integer: bool
    time_at: int
    value: float = 0.0
    time: int = 0


@dataclass(frozen=True)
class ReadMetric:
    """A metric as read: `slots` may be empty. `ignored` holds the spans that carry nothing we keep."""

    name: str
    unit: str
    description: str
    kind: Kind
    slots: list[Slot]
    loose: list[int]
    ignored: list[Span]
    variable: bool
    skipped: int


def read_metric(body: bytes, span: Span) -> ReadMetric:
    """A Metric message.

    Raises:
        WireError: when the bytes are no metric.
    """
    texts, kind, reader = _read(body, span)
    return ReadMetric(
        texts[1][:255],
        texts[3][:63],
        texts[2][:500],
        kind,
        reader.slots,
        reader.loose,
        reader.ignored,
        reader.variable,
        reader.skipped,
    )


def attributes_at(body: bytes, span: Span) -> list[list[Span]]:
    """Where the attributes of each slot of a metric stand, whose numbers stand in fixed places.

    Raises WireError as `read_metric` does.
    """
    return _read(body, span)[2].named_at


def _read(body: bytes, span: Span) -> tuple[dict[int, str], Kind, _PointReader]:
    texts = {1: "", 2: "", 3: ""}
    data: tuple[int, int, int] | None = None
    for number, kind, start, end in fields(body, *span):
        if number in texts and kind == 2:
            texts[number] = _text(body, start, end)
        elif number in (5, 7, 9, 10, 11) and kind == 2:
            data = (number, start, end)
    reader = _PointReader(body)
    metric_kind: Kind = "gauge"
    if data:
        metric_kind = reader.read(*data)
    return texts, metric_kind, reader


_NO_RECORDED_VALUE = 1


class _PointReader:
    """Collects the slots of one metric's data points."""

    def __init__(self, body: bytes) -> None:
        self.body = body
        self.slots: list[Slot] = []
        self.loose: list[int] = []
        self.ignored: list[Span] = []
        self.variable = False
        self.skipped = 0
        self.named_at: list[list[Span]] = []
        """Of each slot where its attributes stand, but for those whose numbers do not stand in fixed places."""
        self._named: dict[bytes, tuple[tuple[str, str], ...]] = {}

    def _slot(self, attributes: list[Span], slot: Slot) -> None:
        self.slots.append(slot)
        self.named_at.append(attributes)

    def _attributes(self, spans: list[Span]) -> tuple[tuple[str, str], ...]:
        """`read_attributes`, once for attributes that stand together and are the same."""
        if not spans:
            return ()
        raw = self.body[spans[0][0] : spans[-1][1]]
        found = self._named.get(raw)
        if found is None:
            found = self._named[raw] = read_attributes(self.body, spans)
        return found

    def read(self, number: int, start: int, end: int) -> Kind:
        temporality, monotonic, points = 0, False, []
        for n, kind, at, to in fields(self.body, start, end):
            if n == 1 and kind == 2:
                points.append((at, to))
                if len(points) > MOST_NUMBERS:
                    raise TooLarge(MOST_NUMBERS, "points")
            elif n == 2 and kind == 0:
                temporality = at
            elif n == 3 and kind == 0:
                monotonic = bool(at)
        if number == 5:
            return self._numbers(points, "gauge")
        if number == 7:
            kind_of_sum: PointKind = "delta" if temporality == 1 else "counter" if monotonic else "sum"
            return self._numbers(points, kind_of_sum)
        counted: PointKind = "delta" if temporality == 1 else "counter"
        if number == 9:
            for span in points:
                self._histogram(span, counted)
                self._check_room()
            return "histogram"
        self.variable = True
        for span in points:
            if number == 10:
                self._exponential(span, counted)
            else:
                self._summary(span)
            self._check_room()
        return "histogram" if number == 10 else "summary"

    def _check_room(self) -> None:
        if len(self.slots) > MOST_NUMBERS:
            raise TooLarge(MOST_NUMBERS, "numbers")

    def _numbers(self, points: list[Span], kind: PointKind) -> PointKind:
        for start, end in points:
            attributes: list[Span] = []
            time_at = value_at = -1
            integer, flags = False, 0
            for n, wire, at, to in fields(self.body, start, end):
                if n == 7 and wire == 2:
                    attributes.append((at, to))
                elif n == 3 and wire == 1:
                    time_at = at
                elif n in (4, 6) and wire == 1:
                    value_at, integer = at, n == 6
                else:
                    flags |= self._beside(n, wire, at, to, starts=2, exemplars=5, flags=8)
            if value_at < 0 or flags & _NO_RECORDED_VALUE:
                self.skipped += 1
                continue
            named = self._attributes(attributes)
            self._slot(attributes, Slot(named, "", kind, value_at, integer, time_at))
        return kind

    def _beside(self, n: int, wire: int, at: int, to: int, *, starts: int, exemplars: int, flags: int) -> int:
        """Notes the start time and exemplars of a point as bytes that may change; answers its flags."""
        if n == starts and wire == 1:
            self.loose.append(at)
        elif n == exemplars and wire == 2:
            self.ignored.append((at, to))
        return at if n == flags and wire == 0 else 0

    def _histogram(self, span: Span, kind: PointKind) -> None:
        attributes: list[Span] = []
        time_at = -1
        flags = 0
        single: dict[str, int] = {}
        buckets: list[int] = []
        bounds: list[float] = []
        for n, wire, at, to in fields(self.body, *span):
            if n == 9 and wire == 2:
                attributes.append((at, to))
            elif n == 3 and wire == 1:
                time_at = at
            elif n in (4, 5, 11, 12) and wire == 1:
                single[{4: "count", 5: "sum", 11: "min", 12: "max"}[n]] = at
            elif n == 6 and wire in (1, 2):
                buckets.extend(range(at, to - 7, 8))
            elif n == 7 and wire in (1, 2):
                bounds.extend(_F64.unpack_from(self.body, b)[0] for b in range(at, to - 7, 8))
            else:
                flags |= self._beside(n, wire, at, to, starts=2, exemplars=8, flags=10)
        if flags & _NO_RECORDED_VALUE or len(buckets) > MAX_BUCKETS or (buckets and len(bounds) != len(buckets) - 1):
            self.skipped += 1
            return
        named = self._attributes(attributes)
        self._slot(attributes, Slot(named, "count", kind, single.get("count", -1), True, time_at))
        if "sum" in single:
            self._slot(attributes, Slot(named, "sum", kind, single["sum"], False, time_at))
        for part in ("min", "max"):
            if part in single:
                self._slot(attributes, Slot(named, part, "gauge", single[part], False, time_at))
        for at, bound in zip(buckets, [*bounds, math.inf], strict=False):
            self._slot(attributes, Slot(named, f"le:{bound!r}", kind, at, True, time_at))

    def _exponential(self, span: Span, kind: PointKind) -> None:
        body = self.body
        attributes: list[Span] = []
        time = count = zero = scale = flags = 0
        total: float | None = None
        positive: Span | None = None
        negative: Span | None = None
        for n, wire, at, to in fields(body, *span):
            if n == 1 and wire == 2:
                attributes.append((at, to))
            elif n == 3 and wire == 1:
                time = _I64.unpack_from(body, at)[0]
            elif n == 4 and wire == 1:
                count = _U64.unpack_from(body, at)[0]
            elif n == 5 and wire == 1:
                total = _F64.unpack_from(body, at)[0]
            elif n == 6 and wire == 0:
                scale = _zigzag(at)
            elif n == 7 and wire == 1:
                zero = _U64.unpack_from(body, at)[0]
            elif n == 8 and wire == 2:
                positive = (at, to)
            elif n == 9 and wire == 2:
                negative = (at, to)
            elif n == 10 and wire == 0:
                flags = at
        if flags & _NO_RECORDED_VALUE or not -10 <= scale <= 20:
            self.skipped += 1
            return
        named = self._attributes(attributes)
        counted: dict[Bounds, float] = {(0.0, 0.0): float(zero)} if zero else {}
        for side, buckets in ((1, positive), (-1, negative)):
            if buckets:
                for bounds, held in exponential_buckets(body, buckets, scale, side).items():
                    counted[bounds] = counted.get(bounds, 0.0) + held
        if len(counted) > MAX_EXPONENTIAL:
            self.skipped += 1
            return
        self._literal(named, "count", kind, float(count), time)
        if total is not None:
            self._literal(named, "sum", kind, total, time)
        for (lower, upper), held in sorted(counted.items()):
            self._literal(named, f"in:{lower!r}:{upper!r}", kind, held, time)

    def _summary(self, span: Span) -> None:
        body = self.body
        attributes: list[Span] = []
        time = count = flags = 0
        total = 0.0
        quantiles: list[tuple[float, float]] = []
        for n, wire, at, to in fields(body, *span):
            if n == 7 and wire == 2:
                attributes.append((at, to))
            elif n == 3 and wire == 1:
                time = _I64.unpack_from(body, at)[0]
            elif n == 4 and wire == 1:
                count = _U64.unpack_from(body, at)[0]
            elif n == 5 and wire == 1:
                total = _F64.unpack_from(body, at)[0]
            elif n == 6 and wire == 2:
                pair = {m: _F64.unpack_from(body, a)[0] for m, w, a, _ in fields(body, at, to) if w == 1}
                quantiles.append((pair.get(1, 0.0), pair.get(2, 0.0)))
            elif n == 8 and wire == 0:
                flags = at
        if flags & _NO_RECORDED_VALUE:
            self.skipped += 1
            return
        named = self._attributes(attributes)
        self._literal(named, "count", "counter", float(count), time)
        self._literal(named, "sum", "counter", total, time)
        for quantile, value in quantiles[:MAX_BUCKETS]:
            self._literal(named, f"q:{quantile!r}", "gauge", value, time)

    def _literal(
        self, attributes: tuple[tuple[str, str], ...], part: str, kind: PointKind, value: float, time: int
    ) -> None:
        self.slots.append(Slot(attributes, part, kind, -1, False, -1, value, time))


def _zigzag(value: int) -> int:
    value &= 0xFFFFFFFF
    return (value >> 1) ^ -(value & 1)


_KEPT_SCALE = 2
"""Exponential buckets are kept at most this fine (2 ** 0.25 wide), so that their bounds stay few and stable."""


Bounds = tuple[float, float]
"""Of a bucket, what lies above the lower one and not above the upper one; the same twice for zero."""


def exponential_buckets(body: bytes, span: Span, scale: int, side: int) -> dict[Bounds, float]:
    """Counts by bounds, merged down to scale 2.

    Bucket `i` of scale `s` holds values in (base ** i, base ** (i + 1)] with base 2 ** (2 ** -s), OTLP data
    model, "exponential scale".
    """
    offset = 0
    counts: list[int] = []
    for n, wire, at, to in fields(body, *span):
        if n == 1 and wire == 0:
            offset = _zigzag(at)
        elif n == 2 and wire == 0:
            counts.append(at)
        elif n == 2 and wire == 2:
            while at < to:
                value, at = _varint(body, at, to)
                counts.append(value)
    shift = max(0, scale - _KEPT_SCALE)
    kept = scale - shift
    merged: dict[Bounds, float] = {}
    for i, n in enumerate(counts):
        if n:
            index = (offset + i) >> shift
            near, far = (2.0 ** max(-1000.0, min(1000.0, (index + step) * 2.0**-kept)) for step in (0, 1))
            bounds = (near, far) if side > 0 else (-far, -near)
            merged[bounds] = merged.get(bounds, 0.0) + n
    return merged
