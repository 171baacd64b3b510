"""The recent points of some series, as they were at one moment."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from itertools import groupby
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from balise.store.series.head import Stripe
from balise.store.series.layouts import Layout

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
Points = tuple[I64, I64, F64]
"""Of each point the place of its series, its time in nanoseconds, and its value, each [n]."""
Seen = Sequence[tuple[Stripe, int]]
"""Stripes, and how many of their rows there were."""
MOST_LAYOUTS = 50_000
"""Layouts of which it is known where some series stand in them."""
COLUMNS_BYTES = 250
"""What that takes of each beside the numbers."""


class Columns(NamedTuple):
    """The columns of a layout that are asked for, as a slice where they stand side by side, of each the place of its
    series, and the lowest and highest place."""

    held: I64 | slice
    places: I64
    first: int
    last: int


class Asked:
    """Series, ascending and each once, with where they stand in the layouts that were looked at for them: who asks
    again finds them at once. Safe to use from several threads."""

    def __init__(self, series: I64) -> None:
        self.series = series
        self._found: dict[int, Columns | None] = {}
        self.size = series.nbytes
        """About how many bytes of memory it takes."""

    def columns_of(self, layouts: Sequence[Layout]) -> list[Columns | None]:
        """Where the series stand in each of these; None where there is none of them."""
        found = self._found
        if missing := [layout for layout in layouts if layout.id not in found]:
            if len(found) > MOST_LAYOUTS:
                found, missing = {}, list(layouts)
                self._found, self.size = found, self.series.nbytes
            # A search in each layout would let other threads in each time; looking it up in a table does not.
            place_of = np.full(int(self.series.max(initial=-1)) + 2, -1, np.int32)
            place_of[self.series] = np.arange(len(self.series))
            made = {one.id: _columns(one, place_of) for one in missing}
            found.update(made)
            self.size += sum(COLUMNS_BYTES + (2 * one.places.nbytes if one is not None else 0) for one in made.values())
        return [found[layout.id] for layout in layouts]


def _columns(layout: Layout, place_of: NDArray[np.int32]) -> Columns | None:
    # Whatever is beyond the last place is not asked for, as that place is kept free.
    at = place_of.take(layout.series, mode="clip")
    columns = (at >= 0).nonzero()[0]
    if not len(columns):
        return None
    places = at[columns].astype(np.int64)
    low, high = int(columns[0]), int(columns[-1]) + 1
    held = slice(low, high) if high - low == len(columns) else columns
    return Columns(held, places, int(places.min()), int(places.max()))


class Recent:
    """Reads stripe by stripe, which takes as long for one series of a stripe as for all of them."""

    def __init__(self, seen: Seen, asked: Asked) -> None:
        seen = [(stripe, rows) for stripe, rows in seen if rows]
        columns = asked.columns_of([stripe.layout for stripe, _ in seen])
        parts = [_Part(*one, at) for one, at in zip(seen, columns, strict=True) if at is not None]
        self._parts = sorted(parts, key=lambda part: part.columns.first)
        self._series = len(asked.series)

    @cached_property
    def counts(self) -> I64:
        """Of each series how many there are, whatever their time."""
        if not self._parts:
            return np.zeros(self._series, np.int64)
        places = [part.columns.places for part in self._parts]
        rows = np.array([part.rows for part in self._parts]).repeat([len(some) for some in places])
        return np.bincount(np.concatenate(places), rows, self._series).astype(np.int64)

    def points(self, start: int, end: int, *, low: int = 0, high: int | None = None) -> list[Points]:
        """The points within [start, end) nanoseconds of the series in the places from `low` until before `high`, piece
        by piece: in a piece those of a series stand in the order in which they came."""
        high = self._series if high is None else high
        chosen = [part for part in self._parts if part.columns.first < high and part.columns.last >= low]
        found: list[Points] = []
        for even, parts in groupby(chosen, key=lambda part: part.is_even(low, high)):
            if even:
                found.append(_even(list(parts), start, end))
            else:
                found += [part.points(start, end, low, high) for part in parts]
        return [points for points in found if len(points[0])]


class _Part(NamedTuple):
    """A stripe, how many of its rows there were, and which of its columns are asked for."""

    stripe: Stripe
    rows: int
    columns: Columns

    def is_even(self, low: int, high: int) -> bool:
        """Whether all of it is asked for, one series after the other, and its rows are in order of time."""
        return (
            self.stripe.ascending
            and self.stripe.layout.plain
            and self.columns.first >= low
            and self.columns.last < high
        )

    def points(self, start: int, end: int, low: int, high: int) -> Points:
        columns, places, first, last = self.columns
        if first < low or last >= high:
            mine = (places >= low) & (places < high)
            columns = np.arange(columns.start, columns.stop) if isinstance(columns, slice) else columns
            columns, places = columns[mine], places[mine]
        times, values = self.stripe.times[: self.rows], self.stripe.values[: self.rows]
        if times.ndim == 1:
            inside = (times >= start) & (times < end)
            if not inside.all():
                times, values = times[inside], values[inside]
            values = values[:, columns]
            if self.stripe.layout.plain:
                # A series after the other, which is nearly in order.
                return places.repeat(len(times)), _again(times, len(places)), values.T.reshape(-1)
            return _again(places, len(times)), times.repeat(len(places)), values.reshape(-1)
        times, values = times[:, columns], values[:, columns]
        where = np.broadcast_to(places, times.shape)
        inside = (times >= start) & (times < end)
        return where[inside], times[inside], values[inside]


def _even(parts: Sequence[_Part], start: int, end: int) -> Points:
    """The points of parts that are even, all at once: of many stripes each call of a library for one of them counts."""
    bounds = np.array([start, end])
    times: list[I64] = []
    values: list[F64] = []
    for stripe, rows, (held, *_) in parts:
        lo, hi = 0, rows
        if stripe.oldest < start or stripe.newest >= end:
            lo, hi = stripe.times[:rows].searchsorted(bounds).tolist()
        times.append(stripe.times[lo:hi])
        values.append(stripe.values[lo:hi, held].T.reshape(-1))
    sizes = np.array([len(some) for some in times])
    widths = np.array([len(part.columns.places) for part in parts])
    # One series after the other, which is nearly in order.
    which, at = spread((sizes.cumsum() - sizes).repeat(widths), sizes.repeat(widths))
    places = np.concatenate([part.columns.places for part in parts])
    return places[which], np.concatenate(times)[at], np.concatenate(values)


def spread(lows: I64, sizes: I64) -> tuple[I64, I64]:
    """Of stretches one after the other, `sizes` long and from `lows` on: which stretch, and the place, each [n]."""
    which = np.repeat(np.arange(len(sizes)), sizes)
    ends = np.cumsum(sizes)
    return which, np.arange(len(which)) + np.repeat(lows - (ends - sizes), sizes)


def _again(values: I64, times: int) -> I64:
    """All values, so many times one after the other."""
    again: I64 = values[np.newaxis].repeat(times, axis=0).reshape(-1)
    return again


def together(pieces: Sequence[Points]) -> Points:
    """Pieces one after the other."""
    if len(pieces) == 1:
        return pieces[0]
    none = np.empty(0, np.int64)
    return (
        np.concatenate([none, *(rows for rows, _, _ in pieces)]),
        np.concatenate([none, *(times for _, times, _ in pieces)]),
        np.concatenate([none.astype(np.float64), *(values for _, _, values in pieces)]),
    )


def in_order(points: Points) -> Points:
    """By series, then by time; of several points of one moment the first."""
    rows, times, values = points
    if len(rows) < 2 or _ascending(rows, times).all():
        return points
    order = np.lexsort((times, rows))
    rows, times, values = rows[order], times[order], values[order]
    first = np.concatenate([[True], _ascending(rows, times)])
    return (rows, times, values) if first.all() else (rows[first], times[first], values[first])


def _ascending(rows: I64, times: I64) -> NDArray[np.bool_]:
    """Of each point but the first whether it comes after the one before it."""
    out: NDArray[np.bool_] = (rows[1:] > rows[:-1]) | ((rows[1:] == rows[:-1]) & (times[1:] > times[:-1]))
    return out
