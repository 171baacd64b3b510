"""The shape cache: a sender's successive bodies differ only in known 8-byte places.

In OTLP every time, start time, double and sfixed64 value is a fixed 8-byte field. A `Shape` is a template of
a body with those places blanked out. `(body & mask) == template` proves that nothing else changed, and then the
values are gathered through an 8-byte strided view: no message is parsed, no name is looked up, and the result is
exactly that of the full walk.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from balise.core.series.wire import MOST_NUMBERS, Section, Slot, Span, TooLarge

I64 = NDArray[np.int64]
F64 = NDArray[np.float64]


@dataclass(frozen=True)
class Points:
    """Values of one body. `series` int64 [n]; `times` int64 nanoseconds [n]; `values` float64 [n]."""

    series: I64
    times: I64
    values: F64


class Shape:
    """Where the numbers stand in bodies of one form, and which series each belongs to."""

    __slots__ = (
        "_integer",
        "_literal",
        "_literal_time",
        "_literal_values",
        "_mask",
        "_template",
        "_time_at",
        "_value_at",
        "bytes",
        "series",
        "skipped",
        "tag",
    )

    def __init__(
        self,
        body: bytes,
        slots: Sequence[Slot],
        series: I64,
        *,
        loose: Sequence[int] = (),
        ignored: Sequence[Span] = (),
        skipped: int = 0,
    ) -> None:
        raw = np.frombuffer(body, np.uint8)
        mask = np.full(len(raw), 0xFF, np.uint8)
        self._value_at = np.array([s.value_at for s in slots], np.int64)
        self._time_at = np.array([s.time_at for s in slots], np.int64)
        self._integer = np.array([s.integer for s in slots], bool)
        self._literal = self._value_at < 0
        self._literal_values = np.array([s.value for s in slots], np.float64)
        self._literal_time = np.array([s.time for s in slots], np.int64)
        for at in (*self._value_at.tolist(), *self._time_at.tolist(), *loose):
            if at >= 0:
                mask[at : at + 8] = 0
        for start, end in ignored:
            mask[start:end] = 0
        self._mask, self._template = mask, raw & mask
        self.series = series
        self.tag: object = None
        self.skipped = skipped
        self.bytes = 2 * len(raw) + 42 * len(slots) + 400

    def fits(self, body: bytes) -> bool:
        """Whether the body is this shape, differing only where numbers stand."""
        raw = np.frombuffer(body, np.uint8)
        return len(raw) == len(self._template) and bool(((raw & self._mask) == self._template).all())

    def gather(self, body: bytes) -> Points:
        """The points of a body that fits."""
        size = max(len(body) - 7, 0)
        as_int: I64 = np.ndarray((size,), "<i8", body, strides=(1,))
        as_float: F64 = np.ndarray((size,), "<f8", body, strides=(1,))
        if self._literal.any() or (self._time_at < 0).any():
            return self._gather_with_literals(as_int, as_float)
        values = as_float[self._value_at]
        if self._integer.any():
            places = np.flatnonzero(self._integer)
            values[places] = as_int[self._value_at[places]]
        return Points(self.series, as_int[self._time_at], values)

    def _gather_with_literals(self, as_int: I64, as_float: F64) -> Points:
        values, times = self._literal_values.copy(), self._literal_time.copy()
        doubles = np.flatnonzero(~self._literal & ~self._integer)
        integers = np.flatnonzero(~self._literal & self._integer)
        timed = np.flatnonzero(self._time_at >= 0)
        values[doubles] = as_float[self._value_at[doubles]]
        values[integers] = as_int[self._value_at[integers]]
        times[timed] = as_int[self._time_at[timed]]
        return Points(self.series, times, values)


def first_resource(body: bytes) -> bytes:
    """The bytes up to the end of the first resource: one token may send for many hosts, whose bodies are alike.

    Only chooses among shapes; whether a shape fits is proved by `Shape.fits`.
    """
    at = 0
    for _ in range(2):
        if at >= len(body) or body[at] != 0x0A:
            return b""
        at, length, shift = at + 1, 0, 0
        while at < len(body) and shift < 35:
            byte = body[at]
            at += 1
            length |= (byte & 0x7F) << shift
            shift += 7
            if byte < 0x80:
                break
    return body[: min(at + length, 2048)]


SHAPES_A_FORM = 4


class ShapeCache:
    """Shapes by sender and length, least recently used first out, within `capacity` bytes."""

    def __init__(self, capacity: int) -> None:
        self._capacity = capacity
        self._held: OrderedDict[Hashable, list[Shape]] = OrderedDict()
        self.size = 0
        self.hits = 0
        self.misses = 0

    def find(self, key: Hashable, body: bytes) -> Shape | None:
        """The shape the body fits, or None."""
        for shape in self._held.get(key, ()):
            if shape.fits(body):
                self._held.move_to_end(key)
                self.hits += 1
                return shape
        self.misses += 1
        return None

    def keep(self, key: Hashable, shape: Shape) -> None:
        held = self._held.setdefault(key, [])
        held.insert(0, shape)
        self.size += shape.bytes
        for old in held[SHAPES_A_FORM:]:
            self.size -= old.bytes
        del held[SHAPES_A_FORM:]
        self._held.move_to_end(key)
        while self.size > self._capacity and len(self._held) > 1:
            _, dropped = self._held.popitem(last=False)
            self.size -= sum(s.bytes for s in dropped)


def moved(slot: Slot, by: int) -> Slot:
    """The slot with its places counted from `by` bytes earlier."""
    return Slot(
        slot.attributes,
        slot.part,
        slot.kind,
        slot.value_at + by if slot.value_at >= 0 else -1,
        slot.integer,
        slot.time_at + by if slot.time_at >= 0 else -1,
        slot.value,
        slot.time,
    )


Resolve = Callable[[bytes, Section], tuple[list[Slot], I64, list[int], list[Span], bool, int]]
"""Reads one metric of a body: slots (places in the body), series ids, loose places, ignored spans,
whether its form varies, and how many points were left out."""


@dataclass(frozen=True)
class _KnownMetric:
    """A metric of a body once read: enough to read the next one without walking it."""

    shape: Shape
    slots: list[Slot]
    loose: list[int]
    ignored: list[Span]


class BodyReader:
    """Reads bodies through three doors: the whole shape, the shapes of single metrics, and the full walk."""

    def __init__(self, *, capacity: int) -> None:
        """`capacity` bytes are kept of whole shapes, and as many of those of single metrics."""
        self.shapes = ShapeCache(capacity)
        self._metrics: OrderedDict[Hashable, _KnownMetric] = OrderedDict()
        self._capacity = capacity
        self.metric_bytes = 0

    def known(self, sender: Hashable, body: bytes) -> Shape | None:
        """The shape of a body seen before, or None when it has to be learnt with `learn`."""
        return self.shapes.find((sender, len(body), first_resource(body)), body)

    def learn(self, sender: Hashable, body: bytes, found: Sequence[Section], resolve: Resolve) -> Shape:
        """The shape of a body of a new form, remembered for the next one. `gather` gives its points."""
        slots: list[Slot] = []
        series: list[I64] = []
        loose: list[int] = []
        ignored: list[Span] = []
        skipped, variable = 0, False
        for section in found:
            part, varies, left_out = self._metric(sender, body, section, resolve)
            start = section.metric[0]
            slots.extend(moved(s, start) for s in part.slots)
            if len(slots) > MOST_NUMBERS:
                raise TooLarge(MOST_NUMBERS, "numbers")
            series.append(part.shape.series)
            loose.extend(at + start for at in part.loose)
            ignored.extend((a + start, b + start) for a, b in part.ignored)
            variable = variable or varies
            skipped += left_out
        ids = np.concatenate(series) if series else np.empty(0, np.int64)
        shape = Shape(body, slots, ids, loose=loose, ignored=ignored, skipped=skipped)
        if not variable and slots:
            self.shapes.keep((sender, len(body), first_resource(body)), shape)
        return shape

    def _metric(
        self, sender: Hashable, body: bytes, section: Section, resolve: Resolve
    ) -> tuple[_KnownMetric, bool, int]:
        start, end = section.metric
        chunk = body[start:end]
        resource = body[section.resource[0] : section.resource[1]]
        key = (sender, resource, len(chunk), chunk[:64])
        known = self._metrics.get(key)
        if known and known.shape.fits(chunk):
            self._metrics.move_to_end(key)
            return known, False, known.shape.skipped
        slots, series, loose, ignored, varies, skipped = resolve(body, section)
        local = [moved(s, -start) for s in slots]
        loose = [at - start for at in loose]
        ignored = [(a - start, b - start) for a, b in ignored]
        shape = Shape(chunk, local, series, loose=loose, ignored=ignored, skipped=skipped)
        made = _KnownMetric(shape, local, loose, ignored)
        if not varies and slots:
            if known:
                self.metric_bytes -= known.shape.bytes
            self._metrics[key] = made
            self.metric_bytes += shape.bytes
            while self.metric_bytes > self._capacity and len(self._metrics) > 1:
                _, dropped = self._metrics.popitem(last=False)
                self.metric_bytes -= dropped.shape.bytes
        return made, varies, skipped
