"""Where the numbers stand in a sender's bytes, which is all that differs from one body to the next.

In OTLP every time, start time, double and sfixed64 value is a fixed 8-byte field. A `Shape` knows those places. Bytes
whose numbers are blanked out and that have the digest of bytes read before say the same: no message is parsed, no name
is looked up, and the values, gathered through an 8-byte strided view, are exactly those of the full walk.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from hashlib import blake2b
from typing import Any

import numpy as np
from numpy.typing import NDArray

from balise.core.series.wire import Slot, Span

I64 = NDArray[np.int64]
F64 = NDArray[np.float64]


class Shape:
    """Places of numbers, [n] each: of values and of times, -1 for what does not stand in the bytes but is given."""

    __slots__ = (
        "__weakref__",
        "_blank",
        "_given",
        "_given_times",
        "_given_values",
        "_ignored",
        "_integer",
        "_integers",
        "_time_at",
        "_value_at",
    )

    def __init__(
        self,
        value_at: I64,
        time_at: I64,
        integer: NDArray[np.bool_],
        given_values: F64,
        given_times: I64,
        loose: I64,
        ignored: Sequence[Span],
    ) -> None:
        """`loose` are places of other numbers that may change, `ignored` spans of bytes that may."""
        self._value_at, self._time_at = value_at.astype(np.int32), time_at.astype(np.int32)
        self._integer = integer
        self._integers = np.flatnonzero(integer)
        self._given_values, self._given_times = given_values, given_times
        self._given = bool((value_at < 0).any() or (time_at < 0).any())
        self._ignored = list(ignored)
        places = np.unique(np.concatenate([value_at, time_at, loose]))
        self._blank = places[places >= 0].astype(np.int32)

    @classmethod
    def of(cls, slots: Sequence[Slot], loose: Sequence[int] = (), ignored: Sequence[Span] = ()) -> Shape:
        """That of bytes whose numbers are `slots`."""
        return cls(
            np.array([s.value_at for s in slots], np.int64),
            np.array([s.time_at for s in slots], np.int64),
            np.array([s.integer for s in slots], bool),
            np.array([s.value for s in slots], np.float64),
            np.array([s.time for s in slots], np.int64),
            np.array(loose, np.int64),
            ignored,
        )

    @classmethod
    def joined(cls, parts: Iterable[tuple[int, Shape]]) -> Shape:
        """That of bytes in which others stand, each from a place on."""
        held = list(parts)
        by = np.array([place for place, _ in held], np.int64)
        none = np.empty(0, np.int32)
        return cls(
            _moved([none, *(s._value_at for _, s in held)], by),
            _moved([none, *(s._time_at for _, s in held)], by),
            np.concatenate([none.astype(bool), *(s._integer for _, s in held)]),
            np.concatenate([none.astype(np.float64), *(s._given_values for _, s in held)]),
            np.concatenate([none.astype(np.int64), *(s._given_times for _, s in held)]),
            _moved([none, *(s._blank for _, s in held)], by),
            [(start + place, end + place) for place, s in held for start, end in s._ignored],
        )

    def __len__(self) -> int:
        return len(self._value_at)

    @property
    def size(self) -> int:
        """About how many bytes of memory it takes."""
        return 25 * len(self) + 4 * len(self._blank) + 120 * len(self._ignored) + 700

    def key(self) -> bytes:
        """What tells it from other shapes."""
        told = blake2b(repr((self._ignored, self._given)).encode(), digest_size=16)
        parts = (self._value_at, self._time_at, self._integer, self._blank)
        given = (self._given_values, self._given_times) if self._given else ()
        for part in (*parts, *given):
            told.update(part.tobytes() + b"|")
        return told.digest()

    def told(self) -> dict[str, Any]:
        """It as plain values, from which `read` makes it again."""
        given = {"values": self._given_values.tolist(), "times": self._given_times.tolist()} if self._given else {}
        parts = {"value_at": self._value_at, "time_at": self._time_at, "integer": self._integer, "blank": self._blank}
        return {name: part.tolist() for name, part in parts.items()} | {"ignored": self._ignored, **given}

    @classmethod
    def read(cls, told: Mapping[str, Any]) -> Shape:
        """What `told` told. Raises KeyError and ValueError for anything else."""
        count = len(told["value_at"])
        return cls(
            np.array(told["value_at"], np.int64),
            np.array(told["time_at"], np.int64),
            np.array(told["integer"], bool),
            np.array(told.get("values", [0.0] * count), np.float64),
            np.array(told.get("times", [0] * count), np.int64),
            np.array(told["blank"], np.int64),
            [(start, end) for start, end in told["ignored"]],
        )

    def digest(self, body: bytes) -> bytes:
        """What bytes say beside their numbers."""
        return digest_of(self.blanked(body))

    def blanked(self, body: bytes) -> bytearray:
        """Bytes of this shape without their numbers."""
        blanked = bytearray(body)
        if len(self._blank):
            numbers: I64 = np.ndarray((max(len(body) - 7, 0),), "<i8", blanked, strides=(1,))
            numbers[self._blank] = 0
        for start, end in self._ignored:
            blanked[start:end] = bytes(end - start)
        return blanked

    def gather(self, body: bytes) -> tuple[I64, F64]:
        """Times, nanoseconds [n], and values [n] of bytes of this shape."""
        size = max(len(body) - 7, 0)
        as_int: I64 = np.ndarray((size,), "<i8", body, strides=(1,))
        as_float: F64 = np.ndarray((size,), "<f8", body, strides=(1,))
        if self._given:
            return self._gather_with_given(as_int, as_float)
        values = as_float[self._value_at]
        if len(self._integers):
            values[self._integers] = as_int[self._value_at[self._integers]]
        return as_int[self._time_at], values

    def _gather_with_given(self, as_int: I64, as_float: F64) -> tuple[I64, F64]:
        values, times = self._given_values.copy(), self._given_times.copy()
        there = self._value_at >= 0
        doubles = np.flatnonzero(there & ~self._integer)
        integers = np.flatnonzero(there & self._integer)
        timed = np.flatnonzero(self._time_at >= 0)
        values[doubles] = as_float[self._value_at[doubles]]
        values[integers] = as_int[self._value_at[integers]]
        times[timed] = as_int[self._time_at[timed]]
        return times, values


def digest_of(blanked: bytes | bytearray) -> bytes:
    return blake2b(blanked, digest_size=16).digest()


def _moved(pieces: Sequence[NDArray[np.int32]], by: I64) -> I64:
    """Pieces, of which the first is empty, one after the other, the places in each counted from elsewhere."""
    places = np.concatenate(pieces).astype(np.int64)
    return np.where(places >= 0, places + np.repeat(by, [len(piece) for piece in pieces[1:]]), -1)
