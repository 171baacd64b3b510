"""The recent points of some series, as they were at one moment."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from functools import cached_property
from itertools import groupby
from operator import attrgetter
from typing import NamedTuple, TypeGuard

import numpy as np
from numpy.typing import NDArray

from balise.core.series.portions import apart
from balise.core.series.steps import Steps
from balise.core.series.summary import Stretches, Summary, add_stretches
from balise.store.series.head import Head, Stripe
from balise.store.series.layouts import Layout
from balise.store.series.places import Key

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
Points = tuple[I64, I64, F64]
"""Of each point the place of its series, its time in nanoseconds, and its value, each [n]."""
MOST_LAYOUTS = 50_000
"""Layouts of which it is known where some series stand in them."""
COLUMNS_BYTES = 250
"""What that takes of each beside the numbers."""
LITTLE = 1_000_000
"""Points that are few enough that nobody need know which of them are within a span."""
_ASCENDING = attrgetter("ascending")
STANDING_BYTES = 24
"""What is kept of each stripe of which it is known that it has any of them."""


class Columns(NamedTuple):
    """The columns of a layout that are asked for, as a slice where they stand side by side, of each the place of its
    series, and the lowest and highest place."""

    held: I64 | slice
    places: I64
    first: int
    last: int


class Standing(NamedTuple):
    """The stripes that have any of some series, by the first of them, and which of their columns that are. `places` are
    those of the series of all columns one after the other, and `widths` how many each stripe has; `plain` says that in
    no stripe a series stands twice, and `apart` that none stands in two either."""

    version: int
    keys: list[Key]
    columns: list[Columns]
    widths: I64
    places: I64
    plain: bool
    apart: bool


class Asked:
    """Series, ascending and each once, with where they stand in the layouts that were looked at for them: who asks
    again finds them at once. Safe to use from several threads."""

    def __init__(self, series: I64) -> None:
        self.series = series
        self._found: dict[int, Columns | None] = {}
        self._found_size = 0
        self._standing: Standing | None = None

    @property
    def size(self) -> int:
        """About how many bytes of memory it takes."""
        standing = self._standing
        return (
            self.series.nbytes
            + self._found_size
            + (standing.places.nbytes + len(standing.keys) * STANDING_BYTES if standing is not None else 0)
        )

    def seen(self, head: Head) -> Seen:
        """The stripes that have any of the series, as they are now."""
        standing, stripes = self._standing, head.stripes
        # Whoever takes stripes in or out says so afterwards.
        if standing is None or standing.version != head.version:
            standing = self._standing = self._look(head)
        held = [stripes.get(key) for key in standing.keys]
        rows = [stripe.rows if stripe is not None else 0 for stripe in held]
        return Seen(held, rows, standing)

    def _look(self, head: Head) -> Standing:
        version = head.version
        keys = head.keys_of_any(self.series)
        layouts = [stripe.layout if (stripe := head.stripes.get(key)) is not None else None for key in keys]
        known = self._columns_of([layout for layout in layouts if layout is not None])
        found: list[tuple[Columns, Key, bool]] = []
        for key, layout in zip(keys, layouts, strict=True):
            columns = known[layout.id] if layout is not None else None
            if layout is not None and columns is not None:
                found.append((columns, key, layout.plain))
        found.sort(key=lambda one: one[0].first)
        asked = [columns for columns, _, _ in found]
        places = np.concatenate([np.empty(0, np.int64), *(one.places for one in asked)])
        return Standing(
            version,
            [key for _, key, _ in found],
            asked,
            np.array([len(one.places) for one in asked], np.int64),
            places,
            all(plain for _, _, plain in found),
            int(np.bincount(places).max(initial=0)) <= 1,
        )

    def _columns_of(self, layouts: Sequence[Layout]) -> dict[int, Columns | None]:
        """By layout where the series stand in it; None where there is none of them."""
        found = self._found
        if missing := [layout for layout in layouts if layout.id not in found]:
            if len(found) > MOST_LAYOUTS:
                found, missing = {}, list(layouts)
                self._found, self._found_size = found, 0
            # A search in each layout would let other threads in each time; looking it up in a table does not.
            place_of = np.full(int(self.series.max(initial=-1)) + 2, -1, np.int32)
            place_of[self.series] = np.arange(len(self.series))
            made = {one.id: _columns(one, place_of) for one in missing}
            found.update(made)
            self._found_size += sum(
                COLUMNS_BYTES + (2 * one.places.nbytes if one is not None else 0) for one in made.values()
            )
        return found


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


class Seen(NamedTuple):
    """Stripes as they were at one moment: which, None for one that was gone, and how many rows each had."""

    stripes: Sequence[Stripe | None]
    rows: Sequence[int]
    standing: Standing


class Recent:
    """Reads stripe by stripe, which takes as long for one series of a stripe as for all of them."""

    def __init__(self, seen: Seen, series: int) -> None:
        self._seen = seen
        self._series = series

    @cached_property
    def counts(self) -> I64:
        """Of each series how many points there are, whatever their time."""
        return self._counted(self._seen.rows)

    def counts_within(self, start: int, end: int) -> I64:
        """Of each series at most how many points there are within [start, end) nanoseconds."""
        if self.counts.sum() <= LITTLE:
            return self.counts
        seen = zip(self._seen.stripes, self._seen.rows, strict=True)
        return self._counted([_rows_within(stripe, rows, start, end) for stripe, rows in seen])

    def _counted(self, rows: Sequence[int]) -> I64:
        standing = self._seen.standing
        whole = np.array(rows, np.int64).repeat(standing.widths)
        return np.bincount(standing.places, whole, self._series).astype(np.int64)

    @cached_property
    def _parts(self) -> list[_Part]:
        seen = zip(self._seen.stripes, self._seen.rows, self._seen.standing.columns, strict=True)
        return [_Part(stripe, rows, columns) for stripe, rows, columns in seen if stripe is not None and rows]

    def summed(self, steps: Steps, fields: Collection[str]) -> Summary | None:
        """All series summed up, with `fields` alone; None where their points have to be put in order first."""
        stripes, _, standing = self._seen
        if not (standing.apart and _are_ascending(stripes)):
            return None
        out = Summary.room(self._series, steps.count, fields)
        lows = standing.widths.cumsum() - standing.widths
        for width, mine in apart(standing.widths):
            stretches = self._stretches(mine.tolist(), steps)
            places = standing.places[lows[mine, None] + np.arange(width)]
            if not add_stretches(Stretches(places, *stretches), steps, fields, out):
                return None
        return out

    def _stretches(self, mine: Sequence[int], steps: Steps) -> tuple[I64, I64, F64]:
        """Of stripes that have as many columns, and are in order of time, how many rows are within the steps, and what
        those say."""
        stripes, rows, columns = self._seen.stripes, self._seen.rows, self._seen.standing.columns
        start, end = steps.start, steps.end
        times: list[I64] = []
        values: list[F64] = []
        for n in mine:
            stripe = stripes[n]
            assert stripe is not None
            low, high = stripe.within(rows[n], start, end)
            times.append(stripe.times[low:high])
            values.append(stripe.values[low:high, columns[n].held])
        return np.array([len(some) for some in times]), np.concatenate(times), np.concatenate(values)

    def points(self, start: int, end: int, *, low: int = 0, high: int | None = None) -> list[Points]:
        """The points within [start, end) nanoseconds of the series in the places from `low` until before `high`, piece
        by piece: in a piece those of a series stand in the order in which they came."""
        high = self._series if high is None else high
        stripes, rows, standing = self._seen
        if low <= 0 and high >= self._series and standing.plain and _are_ascending(stripes):
            points = _even(
                zip(stripes, rows, standing.columns, strict=True), standing.widths, standing.places, start, end
            )
            return [points] if len(points[0]) else []
        chosen = [part for part in self._parts if part.columns.first < high and part.columns.last >= low]
        found = []
        for even, parts in groupby(chosen, key=lambda part: part.is_even(low, high)):
            if even:
                mine = list(parts)
                widths = np.array([len(part.columns.places) for part in mine])
                found.append(_even(mine, widths, np.concatenate([p.columns.places for p in mine]), start, end))
            else:
                found += [part.points(start, end, low, high) for part in parts]
        return [points for points in found if len(points[0])]


def _are_ascending(stripes: Sequence[Stripe | None]) -> TypeGuard[Sequence[Stripe]]:
    """Whether there are any, all are there, and each is in order of time."""
    return bool(stripes) and None not in stripes and all(map(_ASCENDING, stripes))


def _rows_within(stripe: Stripe | None, rows: int, start: int, end: int) -> int:
    if stripe is None:
        return 0
    if not stripe.ascending:
        return rows
    low, high = stripe.within(rows, start, end)
    return high - low


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
                return places.repeat(len(times)), np.tile(times, len(places)), values.T.reshape(-1)
            return np.tile(places, len(times)), times.repeat(len(places)), values.reshape(-1)
        times, values = times[:, columns], values[:, columns]
        where = np.broadcast_to(places, times.shape)
        inside = (times >= start) & (times < end)
        return where[inside], times[inside], values[inside]


def _even(parts: Iterable[tuple[Stripe, int, Columns]], widths: I64, places: I64, start: int, end: int) -> Points:
    """The points of parts that are even, all at once: of many stripes each call of a library for one of them counts.
    `widths` and `places` are those of their columns."""
    times: list[I64] = []
    values: list[F64] = []
    for stripe, rows, columns in parts:
        low, high = stripe.within(rows, start, end)
        times.append(stripe.times[low:high])
        values.append(stripe.values[low:high, columns.held].T.reshape(-1))
    sizes = np.array([len(some) for some in times])
    # One series after the other, which is nearly in order.
    which, at = spread((sizes.cumsum() - sizes).repeat(widths), sizes.repeat(widths))
    return places[which], np.concatenate(times)[at], np.concatenate(values)


def spread(lows: I64, sizes: I64) -> tuple[I64, I64]:
    """Of stretches one after the other, `sizes` long and from `lows` on: which stretch, and the place, each [n]."""
    which = np.repeat(np.arange(len(sizes)), sizes)
    ends = np.cumsum(sizes)
    return which, np.arange(len(which)) + np.repeat(lows - (ends - sizes), sizes)


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
    # What is stored and what is recent are each nearly in order, and one is later than the other.
    order = rows.argsort(kind="stable")
    rows, times, values = rows[order], times[order], values[order]
    later = _ascending(rows, times)
    if not later.all():
        order = np.lexsort((times, rows))
        rows, times, values = rows[order], times[order], values[order]
        later = _ascending(rows, times)
    first = np.concatenate([[True], later])
    return (rows, times, values) if first.all() else (rows[first], times[first], values[first])


def _ascending(rows: I64, times: I64) -> NDArray[np.bool_]:
    """Of each point but the first whether it comes after the one before it."""
    out: NDArray[np.bool_] = (rows[1:] > rows[:-1]) | ((rows[1:] == rows[:-1]) & (times[1:] > times[:-1]))
    return out
