"""Reading series: recent points, blocks and matrices put together as of one moment."""

from __future__ import annotations

import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection, Engine

from balise.core.series.codec import decode_block, decode_times
from balise.core.series.steps import NS, TIER_SECONDS, Flat, Steps, Summary, TierName, summarise_flat
from balise.store.series.catalogue import Catalogue
from balise.store.series.head import Head
from balise.store.series.seal import DAY, FIELDS, ordered_once

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
Piece = tuple[I64, F64]

_BLOCKS = (
    "SELECT series, times, data FROM block WHERE host = ? AND last >= ? AND first < ? "
    "AND low_series <= ? AND high_series >= ? ORDER BY id"
)


class Reader:
    """Answers for stretches of time. `moment` keeps sealing away while a view of both places is taken."""

    def __init__(
        self,
        engine: Engine,
        *,
        catalogue: Catalogue,
        head: Head,
        moment: threading.Lock,
        sealed_until: dict[int, int],
    ) -> None:
        self._engine = engine
        self.sealed_until = sealed_until
        self._catalogue = catalogue
        self._head = head
        self._moment = moment

    @contextmanager
    def _snapshot(self, series: Sequence[int]) -> Iterator[tuple[Connection, list[list[Piece]]]]:
        """The recent pieces of each series and a connection whose view is of the very same moment."""
        with self._engine.connect() as connection:
            with self._moment:
                connection.exec_driver_sql("BEGIN")
                connection.exec_driver_sql("SELECT count(*) FROM note").fetchone()
                recent = [self._head.of(s) for s in series]
            yield connection, recent
            connection.rollback()

    def raw(self, series: Sequence[int], start: int, end: int) -> list[Piece]:
        """Times and values of each series within [start, end) nanoseconds, in order of time, each moment once."""
        with self._snapshot(series) as (connection, recent):
            pieces: list[list[Piece]] = [[] for _ in series]
            for place, times, values in self._stored(connection, series, start, end):
                pieces[place].append((times, values))
        return [_joined([*stored, *new], start, end) for stored, new in zip(pieces, recent, strict=True)]

    def _stored(
        self, connection: Connection, series: Sequence[int], start: int, end: int
    ) -> Iterator[tuple[int, I64, F64]]:
        by_host: dict[int, list[int]] = {}
        for place, one in enumerate(series):
            by_host.setdefault(self._catalogue.series[one].host, []).append(place)
        for host, places in by_host.items():
            places.sort(key=lambda p: series[p])
            wanted = np.array([series[p] for p in places])
            found = connection.exec_driver_sql(_BLOCKS, (host, start, end, int(wanted[-1]), int(wanted[0])))
            for ids_blob, times_blob, data in found:
                ids = np.frombuffer(ids_blob, np.int64)
                rows = np.searchsorted(ids, wanted)
                rows[rows == len(ids)] = 0
                here = np.flatnonzero(ids[rows] == wanted)
                if len(here):
                    times = decode_times(times_blob)
                    values = decode_block(data, rows[here])
                    for i, one in enumerate(here.tolist()):
                        yield places[one], times, values[i]

    def stored_times(self, series: int, first: int, last: int) -> I64:
        """At which moments within [first, last] a series has points in blocks."""
        with self._engine.connect() as connection:
            found = [times for _, times, _ in self._stored(connection, [series], first, last + 1)]
        return np.concatenate(found) if found else np.empty(0, np.int64)

    def rolled(self, tier: TierName, metric: int, series: Sequence[int], steps: Steps, fields: set[str]) -> Summary:
        """What happened in each step of a tier. `steps` must be of the tier's width; only `fields` are filled."""
        if steps.width != TIER_SECONDS[tier] * NS:
            raise ValueError(f"steps of {steps.width} ns asked of tier {tier}")
        wanted = np.array(series, np.int64)
        order = np.argsort(wanted)
        with self._snapshot(series) as (connection, recent):
            out = _room(len(series), steps.count, set(FIELDS) if any(recent) else fields)
            self._merge_matrices(connection, tier, metric, wanted[order], order, steps, out, fields)
        fresh = [place for place, pieces in enumerate(recent) if pieces]
        if fresh:
            joined = [self._not_stored(series[p], _joined(recent[p], steps.start, steps.end)) for p in fresh]
            summary = summarise_flat(Flat.of(joined), len(fresh), steps)
            out.merge(np.array(fresh), slice(0, steps.count), summary, later=True)
        return out

    def _not_stored(self, series: int, piece: Piece) -> Piece:
        """What of a recent piece is not in a block too: a sender may have repeated itself after a sealing."""
        times, values = piece
        until = self.sealed_until.get(self._catalogue.series[series].host, 0)
        late = int(np.searchsorted(times, until, side="right"))
        if not late:
            return piece
        stored = self.stored_times(series, int(times[0]), int(times[late - 1]))
        new = ~np.isin(times, stored)
        return times[new], values[new]

    def stored_rollup(self, tier: TierName, metric: int, series: I64, steps: Steps, out: Summary) -> None:
        """Fills `out` with what the matrices alone hold; `series` ascending."""
        with self._engine.connect() as connection:
            self._merge_matrices(connection, tier, metric, series, np.arange(len(series)), steps, out, set(FIELDS))

    def _merge_matrices(
        self,
        connection: Connection,
        tier: TierName,
        metric: int,
        wanted: I64,
        order: NDArray[np.intp],
        steps: Steps,
        out: Summary,
        fields: set[str],
    ) -> None:
        names = [name for name in FIELDS if name in fields or name == "count"]
        found = connection.exec_driver_sql(
            f"SELECT day, step, steps, late, series, {', '.join(names)} FROM matrix "  # noqa: S608  fixed names
            "WHERE tier = ? AND metric = ? AND day BETWEEN ? AND ? ORDER BY whole DESC, id",
            (TIER_SECONDS[tier], metric, steps.start // DAY, (steps.end - 1) // DAY),
        )
        for day, step, count, late, ids_blob, *blobs in found:
            ids = np.frombuffer(ids_blob, np.int64)
            rows = np.searchsorted(ids, wanted)
            rows[rows == len(ids)] = 0
            here = np.flatnonzero(ids[rows] == wanted)
            offset = (day * DAY - steps.start) // steps.width + step
            lo, hi = max(0, -offset), min(count, steps.count - offset)
            if not len(here) or lo >= hi:
                continue
            chosen = None if len(here) == len(ids) and (np.diff(rows[here]) == 1).all() else rows[here]
            part = {name: decode_block(blob, chosen)[:, lo:hi] for name, blob in zip(names, blobs, strict=True)}
            _merge_part(out, _as_slice(order[here]), slice(offset + lo, offset + hi), part, later=not late)


def _room(series: int, steps: int, fields: set[str]) -> Summary:
    """An empty summary in which only the wanted fields take room; the others must not be written."""
    gap, zero = np.broadcast_to(np.nan, (series, steps)), np.broadcast_to(0.0, (series, steps))
    return Summary(
        np.full((series, steps), np.nan) if "low" in fields else gap,
        np.full((series, steps), np.nan) if "high" in fields else gap,
        np.zeros((series, steps)) if "total" in fields else zero,
        np.zeros((series, steps)),
        np.full((series, steps), np.nan) if "last" in fields else gap,
    )


def _as_slice(rows: NDArray[np.intp]) -> NDArray[np.intp] | slice:
    """Rows that follow each other as a slice, which numpy takes without copying."""
    if len(rows) == int(rows[-1]) - int(rows[0]) + 1 and bool((np.diff(rows) == 1).all()):
        return slice(int(rows[0]), int(rows[-1]) + 1)
    return rows


def _merge_part(out: Summary, rows: NDArray[np.intp] | slice, at: slice, part: dict[str, F64], *, later: bool) -> None:
    """Adds decoded fields; steps that were empty hold zeros there."""
    some = part["count"] > 0
    place = (rows, at)
    before = out.count[place]
    fresh = not before.any()
    for name, how in (("low", np.fmin), ("high", np.fmax)):
        if name in part:
            new = np.where(some, part[name], np.nan)
            field = getattr(out, name)
            field[place] = new if fresh else how(field[place], new)
    if "last" in part:
        take = some if later else some & (before == 0)
        out.last[place] = np.where(take, part["last"], out.last[place])
    if "total" in part:
        out.total[place] += part["total"]
    out.count[place] = before + part["count"]


def _joined(pieces: list[Piece], start: int, end: int) -> Piece:
    if not pieces:
        return np.empty(0, np.int64), np.empty(0)
    if len(pieces) == 1:
        times, values = pieces[0]
    else:
        times = np.concatenate([t for t, _ in pieces])
        values = np.concatenate([v for _, v in pieces])
    times, values = ordered_once(times, values)
    lo, hi = np.searchsorted(times, [start, end])
    return times[lo:hi], values[lo:hi]
