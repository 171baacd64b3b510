"""Sealing: recent points become compressed blocks and rollup matrices.

Pure work on arrays until `Sealed` is written; `store` writes it in one transaction together with the removal of
the inbox rows that it replaces.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from balise.core.moments import NS
from balise.core.series.codec import BlockEncoder, encode_times
from balise.core.series.growth import MAX_GAP, Before, add_growth, revised
from balise.core.series.runs import Run, Runs
from balise.core.series.steps import TIER_SECONDS, TIERS, Steps
from balise.core.series.summary import summarise
from balise.core.series.wire import PointKind
from balise.store.series.catalogue import Catalogue
from balise.store.series.head import Stripe
from balise.store.series.matrices import ADDED, DAY, REPLACED, Rollups
from balise.store.series.places import Key
from balise.store.series.tails import Tails

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
BLOCK_SERIES = 50
BLOCK_ROWS, LONGEST_BLOCK = 480, 5760
"""Moments of a block of so many series, and of one of few, which would else be mostly its head: up to midnight."""
PACKED_TOGETHER, SUMMED_TOGETHER = 1 << 18, 1 << 18
"""Values that are packed, and summed up, together: they wait for each other for so long."""

Piece = tuple[I64, F64]
Stored = Callable[[Sequence[int], int, int], list[Piece]]
"""What blocks hold of some series within [start, end): times, ascending, and values of each."""


@dataclass(frozen=True)
class _Waiting:
    """A row of the block table that has no data yet, and what is packed for it."""

    row: dict[str, object]
    series: I64
    values: F64


@dataclass
class Sealed:
    """What one sealing writes, what of the head it replaces, and the last point of each series."""

    blocks: list[dict[str, object]] = field(default_factory=list)
    matrices: list[dict[str, object]] = field(default_factory=list)
    taken: list[tuple[Key, NDArray[np.bool_]]] = field(default_factory=list)
    seqs: list[I64] = field(default_factory=list)
    tails: list[tuple[I64, I64, F64]] = field(default_factory=list)
    samples: int = 0


class Sealer:
    """Turns points into blocks and matrices. Each series must be given once, but for rows of several stripes."""

    def __init__(self, catalogue: Catalogue, encoder: BlockEncoder, tails: Tails) -> None:
        self._catalogue = catalogue
        self._encoder = encoder
        self._tails = tails
        self._rollups = Rollups(catalogue.series.metrics_of)
        self._waiting: list[_Waiting] = []
        self._weight = 0
        self._runs: dict[int, list[tuple[I64, Run]]] = {}
        """By how many series they have."""
        self._runs_weight = 0
        self._loose: dict[int, list[Piece]] = {}
        self._out = Sealed()

    def take(self, key: Key, stripe: Stripe, before: int, *, alone: bool) -> None:
        """Takes the rows of a stripe that are wholly earlier than `before`, nanoseconds.

        `alone` says that no other stripe has any of its series.
        """
        rows = stripe.rows
        mask = stripe.newest_first_time()[:rows] < before
        if not mask.any():
            return
        self._out.taken.append((key, mask))
        self._out.seqs.append(stripe.seqs[:rows][mask].copy())
        times, values = stripe.times[:rows][mask], stripe.values[:rows][mask]
        series = stripe.layout.series
        plain = alone and stripe.shared_times and stripe.layout.plain
        tails = self._tails.of(series)
        if not plain or bool((times.min() <= tails.times).any()):
            self._keep_loose(stripe, times, values)
            return
        order = np.argsort(times, kind="stable")
        self._add(series, times[order], values[order], tails)

    def _keep_loose(self, stripe: Stripe, times: I64, values: F64) -> None:
        for series in np.unique(stripe.layout.series).tolist():
            columns = stripe.layout.columns(series)
            mine = np.repeat(times, len(columns)) if times.ndim == 1 else times[:, columns].reshape(-1)
            self.keep(series, mine, values[:, columns].reshape(-1))

    def keep(self, series: int, times: I64, values: F64) -> None:
        """Takes points of one series in any order; they are put in order and together with others in the end."""
        self._loose.setdefault(series, []).append((times, values))

    def add(self, series: I64, times: I64, values: F64) -> None:
        """Series that share their times, all later than their tails: ids [s], ascending [n], values [s, n]."""
        self._add(series, times, values.T, self._tails.of(series))

    def _add(self, series: I64, times: I64, values: F64, before: Before) -> None:
        """As `add`, with values [n, s] and the tails."""
        self._write_blocks(series, times, values.T)
        self._note_tails(series, times, values.T)
        if not np.isfinite(values).all():
            self._roll_up(series, times, values.T, self._catalogue.series.kinds_of(series), before)
            return
        self._runs.setdefault(len(series), []).append(
            (series, Run(times, values, self._catalogue.series.kinds_of(series), before))
        )
        self._runs_weight += values.size
        if self._runs_weight >= SUMMED_TOGETHER:
            self._sum_up_runs()

    def _write_blocks(self, series: I64, times: I64, values: F64) -> None:
        hosts = self._catalogue.series.hosts_of(series)
        for host in np.unique(hosts).tolist():
            mine = np.flatnonzero(hosts == host)
            mine = mine[np.argsort(series[mine])]
            self._blocks(host, series[mine], times, values[mine])
        self._out.samples += values.size

    def _note_tails(self, series: I64, times: I64, values: F64) -> None:
        good = ~np.isnan(values)
        some = good.any(axis=1)
        newest = values.shape[1] - 1 - np.argmax(good[:, ::-1], axis=1)
        last = values[np.arange(len(values)), newest]
        self._out.tails.append((series[some], times[newest[some]], last[some]))

    def _blocks(self, host: int, series: I64, times: I64, values: F64) -> None:
        for row, end in _cuts(times, len(series)):
            part = times[row:end]
            packed = encode_times(part)
            for at in range(0, len(series), BLOCK_SERIES):
                ids = series[at : at + BLOCK_SERIES]
                chunk = values[at : at + BLOCK_SERIES, row:end]
                made: dict[str, object] = {
                    "host": host,
                    "first": int(part[0]),
                    "last": int(part[-1]),
                    "low_series": int(ids[0]),
                    "high_series": int(ids[-1]),
                    "samples": chunk.size,
                    "series": ids.astype(np.int64).tobytes(),
                    "times": packed,
                }
                self._waiting.append(_Waiting(made, ids, chunk))
                self._weight += chunk.size
        if self._weight >= PACKED_TOGETHER:
            self._pack()

    def _pack(self) -> None:
        waiting, self._waiting, self._weight = self._waiting, [], 0
        packed = self._encoder.encode_many([one.values for one in waiting], [one.series for one in waiting])
        self._out.blocks += [one.row | {"data": data} for one, data in zip(waiting, packed, strict=True)]

    def _sum_up_runs(self) -> None:
        held, self._runs, self._runs_weight = self._runs, {}, 0
        for mine in held.values():
            runs = Runs([run for _, run in mine])
            if not runs.are_plain:
                for series, run in mine:
                    self._roll_up(series, run.times, run.values.T, run.kinds, run.before)
                continue
            for tier in TIERS:
                a_day = DAY // (TIER_SECONDS[tier] * NS)
                for (series, _), (numbers, summary) in zip(mine, runs.sums(DAY // a_day), strict=True):
                    days = numbers // a_day
                    for day in dict.fromkeys(days.tolist()):
                        chosen = np.flatnonzero(days == day)
                        part = summary if len(chosen) == len(days) else summary.steps(chosen)
                        self._rollups.note(tier, day, ADDED, series, numbers[chosen] - day * a_day, part)

    def _roll_up(self, series: I64, times: I64, values: F64, kinds: Sequence[PointKind], before: Before) -> None:
        for tier in TIERS:
            width = TIER_SECONDS[tier] * NS
            for day in np.unique(times // DAY).tolist():
                first = max(int(times[0]), day * DAY) // width
                last = min(int(times[-1]), (day + 1) * DAY - 1) // width
                steps = Steps(first * width, width, last - first + 1)
                summary = summarise(times, values, steps)
                add_growth(summary, times, values, steps, kinds, before)
                self._rollups.note(tier, day, ADDED, series, _of_day(steps, day), summary)

    def finish(self, stored: Stored) -> Sealed:
        """Everything taken, ready to be written. `stored` tells what blocks hold, for what has come late."""
        late = self._put_together()
        for series, pieces, times in late:
            self._revise(series, pieces, times, stored)
        self._sum_up_runs()
        self._pack()
        self._out.matrices.extend(self._rollups.matrices(self._encoder))
        return self._out

    def _put_together(self) -> list[tuple[I64, list[Piece], I64]]:
        """Adds loose series together where their times agree; answers those with late points: the series, all their
        points taken now, and the moments of the late ones, which they share."""
        fresh: dict[bytes, list[tuple[int, I64, F64]]] = {}
        late: dict[bytes, list[tuple[int, Piece, Piece]]] = {}
        for series, pieces in self._loose.items():
            times = np.concatenate([t for t, _ in pieces])
            values = np.concatenate([v for _, v in pieces])
            times, values = ordered_once(times, values)
            at = int(np.searchsorted(times, self._tails.of(np.array([series])).times[0], side="right"))
            if at:
                own = (series, (times, values), (times[:at], values[:at]))
                late.setdefault(times[:at].tobytes(), []).append(own)
            if at < len(times):
                fresh.setdefault(times[at:].tobytes(), []).append((series, times[at:], values[at:]))
        for members in fresh.values():
            self.add(np.array([s for s, *_ in members]), members[0][1], np.array([v for *_, v in members]))
        found = []
        for own_late in late.values():
            ids, moments = np.array([s for s, *_ in own_late]), own_late[0][2][0]
            values = np.array([values for *_, (_, values) in own_late])
            self._write_blocks(ids, moments, values)
            self._note_tails(ids, moments, values)
            found.append((ids, [whole for _, whole, _ in own_late], moments))
        return found

    def _revise(self, series: I64, pieces: list[Piece], late: I64, stored: Stored) -> None:
        """Sums the steps that late points change up anew, from all points there are."""
        hour = TIER_SECONDS["1h"] * NS
        start = int(late[0]) // hour * hour
        end = ((int(late[-1]) + MAX_GAP) // hour + 1) * hour
        there = stored(series.tolist(), start - MAX_GAP, end)
        whole = [_merged(a, b, start - MAX_GAP, end) for a, b in zip(there, pieces, strict=True)]
        kinds = self._catalogue.series.kinds_of(series)
        for tier in TIERS:
            width = TIER_SECONDS[tier] * NS
            for day in range(start // DAY, (end - 1) // DAY + 1):
                first, last = max(start, day * DAY), min(end, (day + 1) * DAY)
                steps = Steps(first, width, (last - first) // width)
                summary = revised(whole, [late] * len(whole), kinds, steps)
                some = np.flatnonzero((summary.count > 0).any(axis=1))
                if len(some):
                    self._rollups.note(tier, day, REPLACED, series[some], _of_day(steps, day), summary.rows(some))


def _of_day(steps: Steps, day: int) -> I64:
    """The numbers of steps within a day."""
    return (steps.start - day * DAY) // steps.width + np.arange(steps.count)


def _cuts(times: I64, series: int) -> Iterator[tuple[int, int]]:
    """Where blocks of so many series begin and end."""
    most = min(LONGEST_BLOCK, max(BLOCK_ROWS, BLOCK_ROWS * BLOCK_SERIES // series))
    row = 0
    while row < len(times):
        # Who looks for what changed of a day finds those that began in it soon after its end.
        midnight = int(np.searchsorted(times, (times[row] // DAY + 1) * DAY))
        end = min(len(times), row + most, max(row + BLOCK_ROWS, midnight))
        yield row, end
        row = end


def _merged(one: Piece, other: Piece, start: int, end: int) -> Piece:
    times, values = ordered_once(np.concatenate([one[0], other[0]]), np.concatenate([one[1], other[1]]))
    lo, hi = np.searchsorted(times, [start, end])
    return times[lo:hi], values[lo:hi]


def ordered_once(times: I64, values: F64) -> tuple[I64, F64]:
    """In order of time, the first of several points of one moment kept."""
    if len(times) > 1 and not (np.diff(times) > 0).all():
        order = np.argsort(times, kind="stable")
        times, values = times[order], values[order]
        first = np.diff(times, prepend=times[0] - 1) > 0
        times, values = times[first], values[first]
    return times, values
