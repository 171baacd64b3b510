"""The recent points, in memory: for each layout a stripe of rows, one row a body."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from balise.store.series.layouts import Layout
from balise.store.series.places import Key, Places

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
STRIPE_BYTES = 800
"""What a stripe takes beside its numbers."""
NEVER = int(np.iinfo(np.int64).max)


@dataclass(frozen=True)
class Batch:
    """The points of one body. `times` nanoseconds [n], or [1] when all are of one moment; `values` [n]."""

    layout: Layout
    times: I64
    values: F64


class Stripe:
    """Rows of one layout. `times` [rows] or, when points of a body have their own, [rows, n].

    `since` is when its first row came, unix nanoseconds by our own clock.
    """

    def __init__(self, layout: Layout, *, shared_times: bool, since: int, capacity: int = 8) -> None:
        self.layout = layout
        self.since = since
        self.shared_times = shared_times
        self.rows = 0
        self.oldest, self.newest = NEVER, -NEVER
        """The earliest and the latest moment of any row."""
        self.ascending = shared_times
        """Whether each row has one moment, and none comes before that of the row before it."""
        width = len(layout.series)
        self.seqs = np.empty(capacity, np.int64)
        self.times = np.empty(capacity if shared_times else (capacity, width), np.int64)
        self.values = np.empty((capacity, width))

    @property
    def size(self) -> int:
        """About how many bytes of memory it takes."""
        return self.seqs.nbytes + self.times.nbytes + self.values.nbytes + STRIPE_BYTES

    def has(self, series: I64, times: I64) -> NDArray[np.bool_]:
        """Whether each of these points, [n] series and moments, has a twin here."""
        kept = self.times[: self.rows]
        if self.shared_times:
            return np.isin(times, kept) & np.isin(series, self.layout.series)
        out = np.zeros(len(series), bool)
        for i, (one, at) in enumerate(zip(series.tolist(), times.tolist(), strict=True)):
            out[i] = bool((kept[:, self.layout.columns(one)] == at).any())
        return out

    def within(self, rows: int, start: int, end: int) -> tuple[int, int]:
        """Of the first `rows` rows, if they are ascending, those within [start, end) nanoseconds: from and until
        where."""
        # Of a view a few numbers are looked at in less time than of an array.
        moments = self.times.data
        low = bisect_left(moments, start, 0, rows) if self.oldest < start else 0
        return low, bisect_left(moments, end, low, rows) if self.newest >= end else rows

    def append(self, seq: int, batch: Batch) -> None:
        row = self.rows
        if row == len(self.values):
            grown = max(8, row // 4)
            self.seqs = np.concatenate([self.seqs, np.empty(grown, np.int64)])
            self.times = np.concatenate([self.times, np.empty((grown, *self.times.shape[1:]), np.int64)])
            self.values = np.concatenate([self.values, np.empty((grown, self.values.shape[1]))])
        self.seqs[row] = seq
        self.times[row] = batch.times[0] if self.shared_times else batch.times
        self.values[row] = batch.values
        self._note(batch.times)
        self.rows = row + 1

    def _note(self, times: I64) -> None:
        """Rows have come, which have these moments."""
        if len(times):
            alone = len(times) == 1
            low, high = (int(times[0]),) * 2 if alone else (int(times.min()), int(times.max()))
            self.ascending = self.ascending and low >= self.newest and (alone or _is_ascending(times))
            self.oldest, self.newest = min(self.oldest, low), max(self.newest, high)

    def append_run(self, seqs: I64, times: I64, values: F64) -> None:
        """Rows that have one moment each: [rows], [rows] and [rows, n]."""
        end = self.rows + len(seqs)
        if end > len(self.values):
            grown = end + 8 - len(self.values)
            self.seqs = np.concatenate([self.seqs, np.empty(grown, np.int64)])
            self.times = np.concatenate([self.times, np.empty(grown, np.int64)])
            self.values = np.concatenate([self.values, np.empty((grown, self.values.shape[1]))])
        self.seqs[self.rows : end], self.times[self.rows : end] = seqs, times
        self.values[self.rows : end] = values
        self._note(times)
        self.rows = end

    def newest_first_time(self) -> I64:
        """The latest moment of each row [rows]."""
        times = self.times[: self.rows]
        return times if self.shared_times or not times.shape[1] else times.max(axis=1)

    def without(self, taken: NDArray[np.bool_], now: int) -> Stripe:
        """A stripe of the rows not in `taken` [rows at the time it was made] and of all later ones."""
        keep = np.ones(self.rows, bool)
        keep[: len(taken)] = ~taken
        room = int(keep.sum()) + 8
        left = Stripe(self.layout, shared_times=self.shared_times, since=now, capacity=room)
        n = int(keep.sum())
        left.seqs[:n], left.times[:n] = self.seqs[: self.rows][keep], self.times[: self.rows][keep]
        left.values[:n] = self.values[: self.rows][keep]
        left._note(left.times[:n].reshape(-1))
        left.rows = n
        return left


def _is_ascending(times: I64) -> bool:
    return bool((times[1:] >= times[:-1]).all())


class Head:
    """All stripes. Written by one thread, read by any."""

    def __init__(self) -> None:
        self.stripes: dict[Key, Stripe] = {}
        self._places = Places()
        self.samples = 0
        self.size = 0
        """About how many bytes of memory all stripes take."""
        self.version = 0
        """Rises after a stripe has come or gone."""

    @property
    def oldest(self) -> int:
        """The earliest moment of any recent point, nanoseconds."""
        return min((stripe.oldest for stripe in list(self.stripes.values())), default=NEVER)

    def has(self, series: I64, times: I64) -> NDArray[np.bool_]:
        """Whether each of these points, [n] series and moments, has a twin among the recent ones."""
        out = np.zeros(len(series), bool)
        for key in self._places.of_any(series):
            out |= self.stripes[key].has(series, times)
        return out

    def shares(self, key: Key) -> bool:
        """Whether a series of this stripe is in another one too."""
        return self._places.shares(self.stripes[key].layout.series)

    def any_of(self, series: I64) -> bool:
        """Whether any of these series has recent points."""
        return bool(self._places.of_any(series))

    def of_any(self, series: I64) -> list[Stripe]:
        """The stripes that have any of these series."""
        return [stripe for key in self._places.of_any(series) if (stripe := self.stripes.get(key)) is not None]

    def keys_of_any(self, series: I64) -> list[Key]:
        """Which stripes those are."""
        return self._places.of_any(series)

    def with_kin(self, keys: Sequence[Key]) -> list[Key]:
        """These stripes and all others that have a series of theirs: points of a series are sealed together."""
        found = {key: None for key in keys if key in self.stripes}
        for key in keys:
            stripe = self.stripes.get(key)
            if stripe is not None:
                found.update(dict.fromkeys(self._places.of_any(stripe.layout.series)))
        return list(found)

    def append(self, seq: int, batch: Batch, now: int) -> None:
        """Takes a batch that came at `now`, unix nanoseconds."""
        stripe = self._stripe(batch.layout, len(batch.times) == 1, now)
        before = stripe.size
        stripe.append(seq, batch)
        self.size += stripe.size - before
        self.samples += len(batch.values)

    def append_run(self, seqs: I64, layout: Layout, times: I64, values: F64, now: int) -> None:
        """Takes what came of a layout, one moment a row: [rows], [rows] and [rows, n]."""
        stripe = self._stripe(layout, True, now, capacity=len(seqs) + 8)
        before = stripe.size
        stripe.append_run(seqs, times, values)
        self.size += stripe.size - before
        self.samples += values.size

    def _stripe(self, layout: Layout, shared_times: bool, now: int, capacity: int = 8) -> Stripe:
        key = (layout.id, shared_times)
        stripe = self.stripes.get(key)
        if stripe is None:
            stripe = self.stripes[key] = Stripe(layout, shared_times=shared_times, since=now, capacity=capacity)
            self._places.add(key, layout.series if layout.plain else np.unique(layout.series))
            self.size += stripe.size
            self.version += 1
        return stripe

    def drop(self, taken: Sequence[tuple[Key, NDArray[np.bool_]]], now: int) -> None:
        """Removes rows that now stand in blocks; what stays is as if it had come at `now`."""
        for key, rows in taken:
            stripe = self.stripes[key]
            left = stripe.without(rows, now)
            self.samples -= int(rows.sum()) * len(stripe.layout.series)
            self.size -= stripe.size
            if left.rows:
                self.stripes[key] = left
                self.size += left.size
                continue
            del self.stripes[key]
            self._places.remove(key, stripe.layout.series)
            self.version += 1
