"""Putting matrices together: the pieces of a day once it is over, and of the steps of an hour days into longer runs, so
that a question about a year reads a row for each month of it."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterable, Iterator, Sequence

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Engine

from balise.core.moments import NS
from balise.core.series.codec import BlockEncoder
from balise.core.series.steps import TIER_SECONDS, Steps, TierName, tier_of
from balise.core.series.summary import Summary
from balise.store.series.matrices import DAY, LONGEST_RUN, MATRIX_SERIES, matrix_rows
from balise.store.series.reader import Reader

I64 = NDArray[np.int64]
RUNS = (LONGEST_RUN, 6)
"""Days that are put together to one row, of the steps of an hour: counted from the first of 1970, the longest first."""
PATIENCE = 2
"""Days after its end for which a run is left as it is: those are asked for one by one."""
CELLS_AT_ONCE = 1_000_000
"""Series times steps that are in memory at once."""
AT_ONCE = 500
Swap = Callable[[Sequence[int], Sequence[dict[str, object]]], None]

_PIECES = "SELECT DISTINCT tier, metric, day FROM matrix WHERE whole = 0 AND day < ? ORDER BY tier, day, metric LIMIT ?"
_SHORTER = (
    "SELECT DISTINCT metric, day / :run FROM matrix "
    "WHERE tier = :tier AND whole > 0 AND whole < :run AND day < :ended / :run * :run LIMIT :most"
)
_COVERING = (
    "SELECT day, whole FROM matrix "
    "WHERE tier = ? AND metric = ? AND day > ? AND day <= ? AND day + whole > ? ORDER BY whole DESC LIMIT 1"
)
_WITHIN = "SELECT id, series FROM matrix WHERE tier = ? AND metric = ? AND day >= ? AND day < ?"


class Compactor:
    """`swap` replaces rows by others, all or none; `sealing` keeps new pieces away meanwhile."""

    def __init__(
        self, engine: Engine, reader: Reader, encoder: BlockEncoder, sealing: threading.Lock, swap: Swap
    ) -> None:
        self._engine = engine
        self._reader = reader
        self._encoder = encoder
        self._sealing = sealing
        self._swap = swap

    def work(self, now: int, longest: float) -> int:
        """What is over as of `now`, nanoseconds, until all is done or so many seconds are over: how many were done."""
        until = time.monotonic() + longest
        # What comes a few hours late still belongs to the day before.
        ended = now // DAY - (1 if now % DAY < 3 * 3600 * NS else 0)
        done = 0
        for tier, metric, day, days in self._due(ended):
            self._put_together(tier, metric, day, days)
            done += 1
            if time.monotonic() > until:
                break
        return done

    def _due(self, ended: int) -> Iterator[tuple[TierName, int, int, int]]:
        """Tier, metric, first day and number of days of what is to be put together."""
        with self._engine.connect() as connection:
            found = connection.exec_driver_sql(_PIECES, (ended, AT_ONCE)).all()
        for tier, metric, day in found:
            yield tier_of(tier), metric, *self._run_of(tier, metric, day)
        wide = TIER_SECONDS["1h"]
        for run in RUNS:
            with self._engine.connect() as connection:
                asked = {"run": run, "tier": wide, "ended": ended - PATIENCE, "most": AT_ONCE}
                runs = connection.exec_driver_sql(_SHORTER, asked).all()
            for metric, number in runs:
                yield tier_of(wide), metric, number * run, run

    def _run_of(self, tier: int, metric: int, day: int) -> tuple[int, int]:
        """The first day of the row that a day was put into, and how many days that has; else the day alone."""
        with self._engine.connect() as connection:
            found = connection.exec_driver_sql(_COVERING, (tier, metric, day - LONGEST_RUN, day, day)).first()
        return (found[0], found[1]) if found else (day, 1)

    def without(self, series: I64, metrics: Iterable[int]) -> None:
        """Takes series out of all matrices of some metrics."""
        for metric in metrics:
            with self._engine.connect() as connection:
                query = "SELECT DISTINCT tier, day, whole FROM matrix WHERE metric = ? ORDER BY whole DESC"
                found = connection.exec_driver_sql(query, (metric,)).all()
            done: set[tuple[int, int]] = set()
            for tier, day, whole in found:
                if (tier, day) not in done:
                    self._put_together(tier_of(tier), metric, day, whole, without=series)
                    done.update((tier, one) for one in range(day, day + max(whole, 1)))

    def _put_together(self, tier: TierName, metric: int, day: int, days: int, without: I64 | None = None) -> None:
        """One row for a number of days, for each so many series; with no days the day is not over, and its pieces
        become one."""
        width = TIER_SECONDS[tier] * NS
        steps = Steps(day * DAY, width, max(days, 1) * DAY // width)
        with self._sealing:
            with self._engine.connect() as connection:
                within = (TIER_SECONDS[tier], metric, day, day + max(days, 1))
                found = connection.exec_driver_sql(_WITHIN, within).all()
            if not found:
                return
            numbers = np.array([number for number, _ in found])
            held = [np.unique(np.frombuffer(blob, np.int64)) for _, blob in found]
            series = np.unique(np.concatenate(held))
            if without is not None:
                series = np.setdiff1d(series, without)
            made: list[dict[str, object]] = []
            at_once = max(1, CELLS_AT_ONCE // steps.count // MATRIX_SERIES) * MATRIX_SERIES
            for some in (series[at : at + at_once] for at in range(0, len(series), at_once)):
                summary = Summary.empty(len(some), steps.count)
                having = numbers[[bool(np.isin(own, some, assume_unique=True).any()) for own in held]]
                self._reader.stored_rollup(tier, metric, some, steps, summary, having.tolist())
                metrics = np.full(len(some), metric)
                made += matrix_rows(self._encoder, tier, metrics, day, 0, some, summary, whole=days)
            self._swap([number for number, _ in found], made)
