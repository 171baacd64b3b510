"""The recent points of some series, as they were at one moment."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from balise.store.series.head import Stripe

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
Points = tuple[I64, I64, F64]
"""Of each point the place of its series, its time in nanoseconds, and its value, each [n]."""
Seen = Sequence[tuple[Stripe, int]]
"""Stripes, and how many of their rows there were."""


class Recent:
    """Reads stripe by stripe, which takes as long for one series of a stripe as for all of them.

    Args:
        series: ascending, each once.
    """

    def __init__(self, seen: Seen, series: I64) -> None:
        # A search in each stripe would let other threads in each time; looking it up in a table does not.
        place_of = np.full(int(series.max(initial=-1)) + 2, -1, np.int32)
        place_of[series] = np.arange(len(series))
        parts = (_Part(stripe, rows, place_of) for stripe, rows in seen if rows)
        self._parts = [part for part in parts if len(part.columns)]
        self._parts.sort(key=lambda part: part.first)
        self._first = np.array([part.first for part in self._parts], np.int64)
        self._last = np.array([part.last for part in self._parts], np.int64)
        self.counts = np.zeros(len(series), np.int64)
        """Of each series how many there are, whatever their time."""
        for part in self._parts:
            if part.plain:
                self.counts[part.places] += part.rows
            else:
                np.add.at(self.counts, part.places, part.rows)

    def points(self, start: int, end: int, *, low: int = 0, high: int | None = None) -> list[Points]:
        """The points within [start, end) nanoseconds of the series in the places from `low` until before `high`, piece
        by piece: in a piece those of a series stand in the order in which they came."""
        high = len(self.counts) if high is None else high
        chosen = np.flatnonzero((self._first < high) & (self._last >= low)).tolist()
        found = (self._parts[i].points(start, end, low, high) for i in chosen)
        return [points for points in found if len(points[0])]


class _Part:
    """The columns of a stripe that are asked for, and of each the place of its series."""

    def __init__(self, stripe: Stripe, rows: int, place_of: NDArray[np.int32]) -> None:
        # Whatever is beyond the last place is not asked for, as that place is kept free.
        at = place_of.take(stripe.layout.series, mode="clip")
        self.columns = (at >= 0).nonzero()[0]
        self.places = at[self.columns].astype(np.int64)
        self.first = self.last = -1
        if len(self.columns):
            self.first, self.last = int(self.places.min()), int(self.places.max())
        self.rows = rows
        self.plain = stripe.layout.plain
        self._stripe = stripe

    def points(self, start: int, end: int, low: int, high: int) -> Points:
        columns, places = self.columns, self.places
        if self.first < low or self.last >= high:
            mine = (places >= low) & (places < high)
            columns, places = columns[mine], places[mine]
        times, values = self._stripe.times[: self.rows], self._stripe.values[: self.rows]
        if times.ndim == 1:
            inside = (times >= start) & (times < end)
            if not inside.all():
                times, values = times[inside], values[inside]
            values = values[:, columns]
            if self.plain:
                # A series after the other, which is nearly in order.
                return places.repeat(len(times)), np.tile(times, len(columns)), values.T.reshape(-1)
            return np.tile(places, len(times)), times.repeat(len(columns)), values.reshape(-1)
        times, values = times[:, columns], values[:, columns]
        where = np.broadcast_to(places, times.shape)
        inside = (times >= start) & (times < end)
        return where[inside], times[inside], values[inside]


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
