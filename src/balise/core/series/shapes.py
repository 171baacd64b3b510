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
EIGHT = np.dtype("V8")
"""Eight bytes wherever they stand: numpy takes and puts them without giving the interpreter away, as it does for
numbers that are not aligned, after which a thread waits for its turn behind others that compute."""
NOTHING = np.zeros(1, EIGHT)[0]
BRIEF, BRIEF_BYTES = 480, 2047
"""Numbers that are taken or put at once, and bytes that are digested at once: of more it is given away as well."""
MOST_BRIEF = 64 << 10
"""Bytes of which a digest is taken in such pieces; who has more is beside the loop."""


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
        self._value_at, self._time_at = value_at.astype(np.intp), time_at.astype(np.intp)
        self._integer = integer
        self._integers = np.flatnonzero(integer)
        self._given_values, self._given_times = given_values, given_times
        self._given = bool((value_at < 0).any() or (time_at < 0).any())
        self._ignored = list(ignored)
        places = np.unique(np.concatenate([value_at, time_at, loose]))
        self._blank = places[places >= 0].astype(np.intp)

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
        none = np.empty(0, np.intp)
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
        return 33 * len(self) + 8 * len(self._blank) + 120 * len(self._ignored) + 700

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
        numbers = _eight_bytes(blanked)
        for at in range(0, len(self._blank), BRIEF):
            numbers[self._blank[at : at + BRIEF]] = NOTHING
        for start, end in self._ignored:
            blanked[start:end] = bytes(end - start)
        return blanked

    def gather(self, body: bytes) -> tuple[I64, F64]:
        """Times, nanoseconds [n], and values [n] of bytes of this shape."""
        if self._given:
            return self._gather_with_given(body)
        taken = _taken(body, self._value_at)
        values = taken.view(np.float64)
        if len(self._integers):
            values[self._integers] = taken.view(np.int64)[self._integers]
        return _taken(body, self._time_at).view(np.int64), values

    def _gather_with_given(self, body: bytes) -> tuple[I64, F64]:
        values, times = self._given_values.copy(), self._given_times.copy()
        there = self._value_at >= 0
        doubles = np.flatnonzero(there & ~self._integer)
        integers = np.flatnonzero(there & self._integer)
        timed = np.flatnonzero(self._time_at >= 0)
        values[doubles] = _taken(body, self._value_at[doubles]).view(np.float64)
        values[integers] = _taken(body, self._value_at[integers]).view(np.int64)
        times[timed] = _taken(body, self._time_at[timed]).view(np.int64)
        return times, values


def digest_of(blanked: bytes | bytearray) -> bytes:
    """What tells bytes from others."""
    told, whole = blake2b(digest_size=16), memoryview(blanked)
    step = BRIEF_BYTES if len(whole) <= MOST_BRIEF else len(whole)
    for at in range(0, len(whole), step):
        told.update(whole[at : at + step])
    return told.digest()


def _eight_bytes(body: bytes | bytearray) -> NDArray[np.void]:
    """The eight bytes from each place on, [as many as there are]."""
    return np.ndarray((max(len(body) - 7, 0),), EIGHT, body, strides=(1,))


def _taken(body: bytes, places: NDArray[np.intp]) -> NDArray[np.void]:
    """The eight bytes from these places on, [n]."""
    held = _eight_bytes(body)
    if len(places) <= BRIEF:
        return held[places]
    return np.concatenate([held[places[at : at + BRIEF]] for at in range(0, len(places), BRIEF)])


def _moved(pieces: Sequence[NDArray[np.intp]], by: I64) -> I64:
    """Pieces, of which the first is empty, one after the other, the places in each counted from elsewhere."""
    places = np.concatenate(pieces).astype(np.int64)
    return np.where(places >= 0, places + np.repeat(by, [len(piece) for piece in pieces[1:]]), -1)
