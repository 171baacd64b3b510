"""Sealing: recent points become compressed blocks and rollup matrices.

Pure work on arrays until `Sealed` is written; `store` writes it in one transaction together with the removal of
the inbox rows that it replaces.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from balise.core.series.codec import BlockEncoder, encode_times
from balise.core.series.steps import NS, TIER_SECONDS, Steps, Summary, TierName, summarise
from balise.store.series.catalogue import Catalogue
from balise.store.series.head import Stripe

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
BLOCK_SERIES = 50
BLOCK_ROWS = 480
MATRIX_SERIES = 256
DAY = 86_400 * NS
TIERS: tuple[TierName, ...] = ("5m", "1h")

StoredTimes = Callable[[int, int, int], I64]
"""The times, within [first, last], at which a series already has points in blocks."""


@dataclass
class _Cell:
    """Rollup of one metric and day under way."""

    rows: list[tuple[I64, int, Summary]] = field(default_factory=list)


@dataclass
class Sealed:
    """What one sealing writes: rows for the tables, and what of the head they replace."""

    blocks: list[dict[str, object]] = field(default_factory=list)
    matrices: list[dict[str, object]] = field(default_factory=list)
    taken: list[tuple[tuple[int, bool], NDArray[np.bool_]]] = field(default_factory=list)
    seqs: list[I64] = field(default_factory=list)
    samples: int = 0


class Sealer:
    """Turns rows into blocks and matrices."""

    def __init__(self, catalogue: Catalogue, encoder: BlockEncoder, sealed_until: dict[int, int]) -> None:
        self._catalogue = catalogue
        self._encoder = encoder
        self._sealed_until = sealed_until
        self._cells: dict[tuple[TierName, int, int, bool], _Cell] = {}
        self._loose: dict[int, list[tuple[I64, F64]]] = {}
        self._out = Sealed()

    def take(self, key: tuple[int, bool], stripe: Stripe, before: int) -> None:
        """Takes the rows of a stripe that are wholly earlier than `before`, nanoseconds."""
        rows = stripe.rows
        mask = stripe.newest_first_time()[:rows] < before
        if not mask.any():
            return
        self._out.taken.append((key, mask))
        self._out.seqs.append(stripe.seqs[:rows][mask].copy())
        times, values = stripe.times[:rows][mask], stripe.values[:rows][mask]
        if not (stripe.shared_times and stripe.layout.plain):
            self._keep_loose(stripe, times, values)
            return
        order = np.argsort(times, kind="stable")
        times, values = times[order], values[order]
        first = np.diff(times, prepend=times[0] - 1) > 0
        until = max((self._sealed_until.get(h, 0) for h in self._hosts_of(stripe.layout.series)), default=0)
        late = first & (times <= until)
        if late.any():
            self._keep_loose(stripe, times[late], values[late])
        good = first & ~late
        if good.any():
            self.add(stripe.layout.series, times[good], values[good].T)

    def _hosts_of(self, series: I64) -> set[int]:
        return {self._catalogue.series[s].host for s in series.tolist()}

    def _keep_loose(self, stripe: Stripe, times: I64, values: F64) -> None:
        for series, columns in stripe.columns.items():
            # Row by row, in the order of arrival: of one moment the first to come is kept.
            mine = np.repeat(times, len(columns)) if times.ndim == 1 else times[:, columns].reshape(-1)
            self._loose.setdefault(series, []).append((mine, values[:, columns].reshape(-1)))

    def add(self, series: I64, times: I64, values: F64, *, late: bool = False) -> None:
        """Series that share their times: ids [s], ascending nanoseconds [n], values [s, n]."""
        hosts = np.array([self._catalogue.series[s].host for s in series.tolist()])
        for host in np.unique(hosts).tolist():
            mine = np.flatnonzero(hosts == host)
            mine = mine[np.argsort(series[mine])]
            self._blocks(host, series[mine], times, values[mine])
        self._roll_up(series, times, values, late)
        self._out.samples += values.size

    def _blocks(self, host: int, series: I64, times: I64, values: F64) -> None:
        for row in range(0, len(times), BLOCK_ROWS):
            part = times[row : row + BLOCK_ROWS]
            packed = encode_times(part)
            for at in range(0, len(series), BLOCK_SERIES):
                ids = series[at : at + BLOCK_SERIES]
                chunk = values[at : at + BLOCK_SERIES, row : row + BLOCK_ROWS]
                self._out.blocks.append(
                    {
                        "host": host,
                        "first": int(part[0]),
                        "last": int(part[-1]),
                        "low_series": int(ids[0]),
                        "high_series": int(ids[-1]),
                        "samples": chunk.size,
                        "series": ids.astype(np.int64).tobytes(),
                        "times": packed,
                        "data": self._encoder.encode(chunk, ids),
                    }
                )

    def _roll_up(self, series: I64, times: I64, values: F64, late: bool) -> None:
        metric_of = np.array([self._catalogue.series[s].metric for s in series.tolist()])
        order = np.argsort(metric_of, kind="stable")
        series, values, metric_of = series[order], values[order], metric_of[order]
        edges = np.flatnonzero(np.diff(metric_of, prepend=-1))
        ends = np.append(edges[1:], len(series))
        for tier in TIERS:
            width = TIER_SECONDS[tier] * NS
            for day in np.unique(times // DAY).tolist():
                first = max(int(times[0]), day * DAY) // width
                last = min(int(times[-1]), (day + 1) * DAY - 1) // width
                summary = summarise(times, values, Steps(first * width, width, last - first + 1))
                step = first - day * DAY // width
                for a, b in zip(edges.tolist(), ends.tolist(), strict=True):
                    cell = self._cells.setdefault((tier, int(metric_of[a]), day, late), _Cell())
                    cell.rows.append((series[a:b], step, summary.rows(slice(a, b))))

    def finish(self, stored: StoredTimes) -> Sealed:
        """Everything taken, ready to be written. `stored` tells what is there already, so nothing counts twice."""
        for ids, times, values, late in self._loose_groups(stored):
            self.add(ids, times, values, late=late)
        for (tier, metric, day, late), cell in self._cells.items():
            self._out.matrices.extend(_matrices(self._encoder, tier, metric, day, late, cell.rows))
        return self._out

    def _loose_groups(self, stored: StoredTimes) -> Iterator[tuple[I64, I64, F64, bool]]:
        """Loose series put together again where their times agree."""
        groups: dict[tuple[bytes, bool], list[tuple[int, I64, F64]]] = {}
        for series, pieces in self._loose.items():
            times = np.concatenate([t for t, _ in pieces])
            values = np.concatenate([v for _, v in pieces])
            times, values = ordered_once(times, values)
            late = int(times[0]) <= self._sealed_until.get(self._catalogue.series[series].host, 0)
            if late:
                new = ~np.isin(times, stored(series, int(times[0]), int(times[-1])))
                times, values = times[new], values[new]
            if len(times):
                groups.setdefault((times.tobytes(), late), []).append((series, times, values))
        for (_, late), members in groups.items():
            yield np.array([s for s, *_ in members]), members[0][1], np.array([v for *_, v in members]), late


def ordered_once(times: I64, values: F64) -> tuple[I64, F64]:
    """In order of time, the first of several points of one moment kept."""
    if len(times) > 1 and not (np.diff(times) > 0).all():
        order = np.argsort(times, kind="stable")
        times, values = times[order], values[order]
        first = np.diff(times, prepend=times[0] - 1) > 0
        times, values = times[first], values[first]
    return times, values


def without_noise(sums: F64) -> F64:
    """Sums of decimal values without the last bits that adding floats leaves: they are no information.

    A sum is changed by less than 1 part in 10 ** 12, and then it keeps small.
    """
    with np.errstate(over="ignore", invalid="ignore"):
        plain = np.round(sums, 6)
        return np.where(np.abs(plain - sums) <= np.abs(sums) * 1e-12, plain, sums)


FIELDS = ("low", "high", "total", "count", "last")


def _matrices(
    encoder: BlockEncoder, tier: TierName, metric: int, day: int, late: bool, rows: list[tuple[I64, int, Summary]]
) -> Iterator[dict[str, object]]:
    series = np.unique(np.concatenate([ids for ids, *_ in rows]))
    first = min(step for _, step, _ in rows)
    last = max(step + summary.count.shape[1] for _, step, summary in rows)
    whole = Summary.empty(len(series), last - first)
    for ids, step, summary in rows:
        at = slice(step - first, step - first + summary.count.shape[1])
        places = np.searchsorted(series, ids)
        whole.merge(places, np.arange(at.start, at.stop), summary, later=True)
    yield from matrix_rows(encoder, tier, metric, day, first, series, whole, late=late)


def matrix_rows(
    encoder: BlockEncoder,
    tier: TierName,
    metric: int,
    day: int,
    first: int,
    series: I64,
    summary: Summary,
    *,
    late: bool = False,
    whole: bool = False,
) -> Iterator[dict[str, object]]:
    """Rows of the matrix table, `MATRIX_SERIES` series each."""
    for at in range(0, len(series), MATRIX_SERIES):
        part = slice(at, at + MATRIX_SERIES)
        row: dict[str, object] = {
            "tier": TIER_SECONDS[tier],
            "metric": metric,
            "day": day,
            "step": first,
            "steps": summary.count.shape[1],
            "late": int(late),
            "whole": int(whole),
            "series": series[part].astype(np.int64).tobytes(),
        }
        empty = summary.count[part] == 0
        for name in FIELDS:
            values = np.where(empty, 0.0, getattr(summary, name)[part])
            row[name] = encoder.encode(without_noise(values) if name == "total" else values)
        yield row
