"""The door of the series store: of several points of one series and one moment, the first to come is kept.

Whoever regroups what is sent again, repeats it after a restart, or sends a moment twice in one body is answered as
if all had been taken, and counts once. What lies behind the door can rely on that.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from balise.core.series.portions import has_any
from balise.store.series.catalogue import Catalogue
from balise.store.series.head import Batch, Head
from balise.store.series.layouts import Layout

I64 = NDArray[np.int64]
Mask = NDArray[np.bool_]
NEVER = np.iinfo(np.int64).min

StoredMoments = Callable[[int, I64, I64], Mask]
"""Whether each of some series of a host has a point in blocks at each of some moments; arguments [n], answer [n]."""
StoredUntil = Callable[[I64, int], I64]
"""Until when each of some series has points in blocks, or somewhat later; where that is before a moment, just before
it."""


class Admitted(NamedTuple):
    """What of a batch is new: all of it, a part of it as a batch of its own, or nothing; and how much was not."""

    batch: Batch | None
    repeated: int = 0


class Door:
    """Knows the newest moment of each series, or a later one; only what is not newer has to be looked up.

    Used by the writer's thread alone.
    """

    def __init__(self, catalogue: Catalogue, head: Head, stored: StoredMoments, until: StoredUntil) -> None:
        self._catalogue = catalogue
        self._head = head
        self._stored = stored
        self._until = until
        self._newest = np.empty(0, np.int64)
        self._group: list[Batch] = []
        self._points: set[tuple[int, int]] = set()
        self._counted = 0

    def begin(self, sealed_until: dict[int, int]) -> None:
        """What was sealed before this start: a series has nothing later than the last block of its host."""
        ids = self._catalogue.series.numbers()
        hosts, which = np.unique(self._catalogue.series.hosts_of(ids), return_inverse=True)
        until = np.array([sealed_until.get(host, NEVER) for host in hosts.tolist()], np.int64)
        self._room(int(ids.max(initial=-1)))
        self._newest[ids] = np.maximum(self._newest[ids], until[which] if len(ids) else NEVER)

    def newest(self, series: int) -> int | None:
        """The newest moment of a series, or a later one; None when it has none."""
        if series >= len(self._newest) or self._newest[series] == NEVER:
            return None
        return int(self._newest[series])

    def open(self) -> None:
        """A new group begins: what was admitted before is in memory or was not written."""
        self._group, self._points, self._counted = [], set(), 0

    def admit(self, batch: Batch) -> Admitted:
        """What of a batch is new, to what is kept and to what was admitted before it in this group."""
        admitted = self._new_of(batch)
        if admitted.batch is not None:
            self._group.append(admitted.batch)
        return admitted

    def _note(self, batch: Batch) -> None:
        series = batch.layout.series
        if batch.layout.plain:
            self._newest[series] = np.maximum(self._newest[series], batch.times)
        else:
            np.maximum.at(self._newest, series, batch.times)

    def admit_run(self, layout: Layout, times: I64) -> bool:
        """Admits all points of these moments, each of all series of a layout, if they are one after the other and later
        than what is known; else nothing."""
        series = layout.series
        if not layout.plain or not bool((np.diff(times) > 0).all()):
            return False
        self._room(layout.largest)
        if not self._are_later(series, times[0]) and not self._head.any_of(series):
            # That their host was sealed until later need not be true of them.
            self._newest[series] = self._until(series, int(times[0]))
        later = self._are_later(series, times[0])
        if later:
            self._newest[series] = times[-1]
        return later

    def _are_later(self, series: I64, time: int) -> bool:
        return bool((self._newest[series] < time).all())

    def _new_of(self, batch: Batch) -> Admitted:
        series = batch.layout.series
        self._room(batch.layout.largest)
        late = batch.times <= self._newest[series]
        if batch.layout.plain and not has_any(late):
            self._newest[series] = batch.times
            return Admitted(batch)
        admitted = self._not_repeated(batch, late)
        if admitted.batch is not None:
            self._note(admitted.batch)
        return admitted

    def _not_repeated(self, batch: Batch, late: Mask) -> Admitted:
        """What of a batch is new, of which some points are `late`: not newer than what is known of their series."""
        series = batch.layout.series
        times = np.broadcast_to(batch.times, series.shape)
        new = np.ones(len(series), bool) if batch.layout.plain else _first_of_each(series, times)
        late &= new
        if late.any():
            places = np.flatnonzero(late)
            new[places] = ~self._there(series[places], times[places])
        if new.all():
            return Admitted(batch)
        repeated = int((~new).sum())
        if not new.any():
            return Admitted(None, repeated)
        layout = self._catalogue.layouts.of(series[new])
        own = batch.times if len(batch.times) == 1 else batch.times[new]
        return Admitted(Batch(layout, own, batch.values[new]), repeated)

    def _room(self, largest: int) -> None:
        """For series up to this one."""
        size = largest + 1
        if size > len(self._newest):
            more = np.full(size + size // 4 + 64 - len(self._newest), NEVER, np.int64)
            self._newest = np.concatenate([self._newest, more])

    def _there(self, series: I64, times: I64) -> Mask:
        """Whether each of these points has a twin: in this group, recent, or stored."""
        found = self._head.has(series, times) | self._in_group(series, times)
        hosts = self._catalogue.series.hosts_of(series)
        for host in np.unique(hosts[~found]).tolist():
            mine = np.flatnonzero((hosts == host) & ~found)
            found[mine] = self._stored(host, series[mine], times[mine])
        return found

    def _in_group(self, series: I64, times: I64) -> Mask:
        for batch in self._group[self._counted :]:
            moments = np.broadcast_to(batch.times, batch.layout.series.shape)
            self._points.update(zip(batch.layout.series.tolist(), moments.tolist(), strict=True))
        self._counted = len(self._group)
        return np.array([p in self._points for p in zip(series.tolist(), times.tolist(), strict=True)], bool)


def _first_of_each(series: I64, times: I64) -> Mask:
    order = np.lexsort((np.arange(len(series)), times, series))
    again = (np.diff(series[order], prepend=-1) == 0) & (np.diff(times[order], prepend=0) == 0)
    out = np.ones(len(series), bool)
    out[order[again]] = False
    return out
