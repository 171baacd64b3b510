"""Looking at all series at once: the mean or the rate of every one of them in a few steps, as fast as memory allows.

A question about some series puts their points together one by one, exactly. This takes whole stripes and matrices as
they lie, for questions that are about the whole fleet; where a point is late, or a counter begins anew at the turn of a
step, a step may differ by that point.
"""

from __future__ import annotations

import threading
import zlib
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection, Engine

from balise.core.moments import NS, seconds_of
from balise.core.series.codec import decode_block
from balise.core.series.growth import MAX_GAP, plain_growth
from balise.core.series.steps import TIER_SECONDS, Steps, TierName
from balise.store.series.catalogue import Catalogue
from balise.store.series.head import Head, Stripe
from balise.store.series.matrices import DAY, REPLACED
from balise.store.series.reader import MATRICES_OF, MATRICES_ORDER, matrices_of
from balise.store.series.unpacked import Unpacked

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
CELLS_AT_MOST = 20_000_000
"""Series times steps that are looked at in one go."""
AT_ONCE, METRICS_HELD = 2, 16
"""Metrics that are unpacked at once, and how many of them are held packed."""
TOGETHER = 24
"""Steps of a matrix that are unpacked together, for whoever looks beside them next."""
FEW = 5000
"""Series below which their stripes are looked up instead of all being looked at."""
GAUGE, COUNTER, DELTA = 0, 1, 2


class TooMuch(ValueError):
    """More series times steps than are looked at in one go."""


class Scan:
    """Reads stripes and matrices whole. `moment` keeps sealing away while a view of both is taken."""

    def __init__(self, engine: Engine, *, catalogue: Catalogue, head: Head, moment: threading.Lock) -> None:
        self._engine = engine
        self._catalogue = catalogue
        self._head = head
        self._moment = moment
        self._unpacked = Unpacked()

    def levels(self, series: Sequence[int], steps: Steps, tier: TierName = "5m") -> F64:
        """Of each series and step the mean of a gauge, else the growth a second; NaN where there is nothing.

        Args:
            series: numbers of series, ascending.
            steps: of the width of the tier or, where nothing of them is sealed, of any.

        Raises:
            TooMuch: those would be too many cells.
        """
        return self._held(series, steps, tier).levels()

    def sums(self, series: Sequence[int], steps: Steps) -> tuple[F64, F64]:
        """Of each gauge and step of five minutes the total of its points, and how many they are."""
        held = self._held(series, steps, "5m")
        return held.total, held.weight

    def _held(self, series: Sequence[int], steps: Steps, tier: TierName) -> _Held:
        if len(series) * steps.count > CELLS_AT_MOST:
            raise TooMuch
        held = _Held(np.array(series, np.int64), self._kinds(series), steps)
        if not len(held.ids):
            return held
        with self._engine.connect() as connection:
            with self._moment:
                connection.exec_driver_sql("BEGIN")
                connection.exec_driver_sql("SELECT count(*) FROM note").fetchone()
                few = len(series) < FEW
                stripes = self._head.of_any(held.ids) if few else list(self._head.stripes.values())
                sizes = [stripe.rows for stripe in stripes]
            if steps.width == TIER_SECONDS[tier] * NS:
                metrics = np.unique(self._catalogue.series.metrics_of(series)).tolist()
                # What is more than there is room for would only push out everything else.
                fits = len(series) * (steps.count + 2 * TOGETHER) * 16 <= self._unpacked.most_bytes
                unpacked = self._unpacked if fits else None
                with ThreadPoolExecutor(AT_ONCE) as pool:
                    for some in (metrics[i : i + METRICS_HELD] for i in range(0, len(metrics), METRICS_HELD)):
                        read = [_matrices(connection, tier, metric, steps) for metric in some]
                        for _ in pool.map(lambda rows: _of_matrices(rows, held, unpacked), read):
                            pass
            connection.rollback()
        for stripe, rows in zip(stripes, sizes, strict=True):
            _of_stripe(stripe, rows, held)
        return held

    def let_go(self) -> None:
        """Memory is short."""
        self._unpacked.clear()

    def sealed_since(self, start: int) -> bool:
        """Whether anything at or after a moment stands in blocks already."""
        with self._engine.connect() as connection:
            return (
                connection.exec_driver_sql("SELECT 1 FROM block WHERE last >= ? LIMIT 1", (start,)).scalar() is not None
            )

    def _kinds(self, series: Sequence[int]) -> NDArray[np.int8]:
        code = {"gauge": GAUGE, "delta": DELTA}
        return np.array([code.get(kind, COUNTER) for kind in self._catalogue.series.kinds_of(series)], np.int8)


class _Held:
    """What was added up so far: of gauges their total and count, of the others what they grew by and over how long."""

    def __init__(self, ids: I64, kinds: NDArray[np.int8], steps: Steps) -> None:
        self.ids = ids
        self.kinds = kinds
        self.steps = steps
        self.total = np.zeros((len(ids), steps.count))
        self.weight = np.zeros((len(ids), steps.count))

    def places(self, ids: I64) -> tuple[I64, NDArray[np.intp]]:
        """The rows of these series that were asked for, and where they stand among `ids`."""
        rows = np.minimum(np.searchsorted(self.ids, ids), len(self.ids) - 1)
        here = np.flatnonzero(self.ids[rows] == ids)
        return rows[here], here

    def add(self, rows: I64, at: I64, total: F64, weight: F64) -> None:
        """Adds sums [rows, steps]; a row may be there more than once."""
        if bool((np.diff(rows) == 1).all()) and at[-1] - at[0] == len(at) - 1:
            place = (slice(rows[0], rows[-1] + 1), slice(at[0], at[-1] + 1))
            self.total[place] += total
            self.weight[place] += weight
        else:
            np.add.at(self.total, np.ix_(rows, at), total)
            np.add.at(self.weight, np.ix_(rows, at), weight)

    def put(self, rows: I64, at: slice, total: F64, weight: F64, *, anew: bool) -> None:
        """Adds sums [rows, steps] of rows that are there once, or puts them in the place of what is known of a step."""
        if anew:
            self.total[rows, at] = np.where(weight > 0, total, self.total[rows, at])
            self.weight[rows, at] = np.where(weight > 0, weight, self.weight[rows, at])
        else:
            self.total[rows, at] += np.where(weight > 0, total, 0.0)
            self.weight[rows, at] += weight

    def levels(self) -> F64:
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(self.weight > 0, self.total / self.weight, np.nan)


def _of_stripe(stripe: Stripe, count: int, held: _Held) -> None:
    rows, columns = held.places(stripe.layout.series)
    if not len(rows) or not count:
        return
    times = stripe.times[:count] if stripe.shared_times else stripe.times[:count].max(axis=1)
    order = slice(None) if bool((np.diff(times) >= 0).all()) else np.argsort(times, kind="stable")
    times = times[order]
    # The point before the first step is where the first growth starts.
    lo, hi = np.searchsorted(times, [held.steps.start, held.steps.end])
    if lo == hi:
        return
    first = max(int(lo) - 1, 0)
    values = stripe.values[:count][order][first:hi]
    values = values if len(columns) == values.shape[1] else values[:, columns]
    times = times[first:hi]
    index = held.steps.index(times[lo - first :])
    edges = np.flatnonzero(np.diff(index, prepend=-1))
    kinds = held.kinds[rows]
    for kind in (GAUGE, COUNTER, DELTA):
        mine = np.flatnonzero(kinds == kind)
        if not len(mine):
            continue
        part = values if len(mine) == values.shape[1] else values[:, mine]
        if kind == COUNTER:
            total, weight = _grown(times, part, int(lo) - first, edges)
        else:
            total, weight = _added(part[int(lo) - first :], edges)
            weight = weight if kind == GAUGE else np.where(weight > 0, seconds_of(held.steps.width), 0.0)
        held.add(rows[mine], index[edges], total.T, weight.T)


def _added(values: F64, edges: I64) -> tuple[F64, F64]:
    """Sums of the rows between edges, [steps, columns], and how many they are."""
    total = np.add.reduceat(values, edges, axis=0)
    if not np.isnan(total).any():
        counts = np.diff(edges, append=len(values)).astype(np.float64)
        return total, np.broadcast_to(counts[:, None], total.shape)
    known = ~np.isnan(values)
    return np.add.reduceat(np.where(known, values, 0.0), edges, axis=0), np.add.reduceat(
        known.astype(np.float64), edges, axis=0
    )


def _grown(times: I64, values: F64, before: int, edges: I64) -> tuple[F64, F64]:
    """By how much counters grew between edges, [steps, columns], and over how many seconds; the first `before` rows
    only say from where."""
    with np.errstate(invalid="ignore"):
        change = np.diff(values, axis=0, prepend=values[:1])
        if bool((change < 0).any()):
            change = np.where(change < 0, values, change)
    change = change[before:]
    gaps = np.diff(times, prepend=times[0])[before:]
    seen = np.where((gaps > 0) & (gaps <= MAX_GAP), gaps / NS, 0.0)
    if bool((seen == 0).any()):
        change[seen == 0] = 0.0
    total = np.add.reduceat(change, edges, axis=0)
    if np.isfinite(total).all():
        return total, np.broadcast_to(np.add.reduceat(seen, edges)[:, None], total.shape)
    known = np.isfinite(change)
    return np.add.reduceat(np.where(known, change, 0.0), edges, axis=0), np.add.reduceat(
        np.where(known, seen[:, None], 0.0), edges, axis=0
    )


def _matrices(connection: Connection, tier: TierName, metric: int, steps: Steps) -> Sequence[Any]:
    return connection.exec_driver_sql(
        f"SELECT id, day, step, steps, late, series, total, count, seen, last, extra {MATRICES_OF} {MATRICES_ORDER}",
        matrices_of(tier, metric, steps),
    ).fetchall()


def _of_matrices(found: Sequence[Any], held: _Held, unpacked: Unpacked | None) -> None:
    """Adds the matrices of one metric; its series are nobody else's, so several metrics are added at once."""
    steps = held.steps
    for number, day, step, count, late, ids_blob, *blobs in found:
        offset = (day * DAY - steps.start) // steps.width + step
        lo, hi = max(0, -offset), min(count, steps.count - offset)
        ids = np.frombuffer(ids_blob, np.int64)
        rows, here = held.places(ids)
        if lo >= hi or not len(rows):
            continue
        kinds = held.kinds[rows]
        for mine in (kinds != COUNTER, kinds == COUNTER):
            if mine.any():
                read = _growths if kinds[mine][0] == COUNTER else _totals
                if unpacked is not None and len(here) == len(ids) and mine.all():
                    since, until = lo // TOGETHER * TOGETHER, min(count, -(-hi // TOGETHER) * TOGETHER)
                    # A number may be given again to other pieces, once those that had it were put together.
                    key = (number, *(zlib.crc32(blob or b"") for blob in blobs), since, until)
                    both = unpacked.of(key, lambda: read(blobs, here, since, until))  # noqa: B023  called at once
                    total, weight = (part[:, lo - since : hi - since] for part in both)
                else:
                    total, weight = read(blobs, here[mine], lo, hi)
                delta = (kinds[mine] == DELTA)[:, None]
                if delta.any():
                    weight = np.where(delta & (weight > 0), seconds_of(steps.width), weight)
                held.put(rows[mine], slice(offset + lo, offset + hi), total, weight, anew=late == REPLACED)


def _totals(blobs: Sequence[bytes], chosen: NDArray[np.intp], lo: int, hi: int) -> tuple[F64, F64]:
    total, count, *_ = (decode_block(blob, chosen, slice(lo, hi)) for blob in blobs[:2])
    return total, count


def _growths(blobs: Sequence[bytes | None], chosen: NDArray[np.intp], lo: int, hi: int) -> tuple[F64, F64]:
    # From the first step of the piece on, so that it is known from where each grew.
    count, seen, last, extra = (
        decode_block(blob, chosen, slice(0, hi)) if blob else np.zeros((len(chosen), 1)) for blob in blobs[1:]
    )
    over = np.broadcast_to(seen, last.shape)
    grown = plain_growth(last, np.broadcast_to(count, last.shape), over) + extra
    return np.ascontiguousarray(grown[:, lo:]), np.ascontiguousarray(over[:, lo:])
