"""Mending series.db: what cannot be read is taken out, and what can be made anew from what is left of it is."""

from __future__ import annotations

import base64
import json
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import insert

from balise.core.moments import NS
from balise.core.series.codec import BlockEncoder
from balise.core.series.growth import MAX_GAP, revised
from balise.core.series.steps import TIER_SECONDS, Steps, TierName, tier_of
from balise.core.series.summary import Summary, coarser
from balise.durable import write_durably
from balise.store.checks.finding import Finding
from balise.store.checks.series import Unreadable
from balise.store.series import tables
from balise.store.series.matrices import DAY, REPLACED, matrix_rows
from balise.store.series.store import SeriesStore

I64 = NDArray[np.int64]
ASIDE = "damaged"


class SeriesMender:
    """Works on a folder on which no service runs."""

    def __init__(self, folder: Path, store: SeriesStore) -> None:
        self._folder, self._store = folder, store
        self._encoder = BlockEncoder()

    def mend(self, unreadable: Sequence[Unreadable]) -> Iterator[Finding]:
        """Takes out what cannot be read, of which a copy stays in a folder `damaged`; tells what was done of each."""
        rows = [(one, self._row(one)) for one in unreadable]
        # Of the narrower steps first: the wider ones may be made of those.
        for one, row in sorted(rows, key=lambda pair: pair[1].get("tier", 0)):
            made: list[dict[str, object]] = []
            done = f"it is taken out, with {row.get('samples', 0):,} points; what was summed up of them stays"
            if one.table == "matrix":
                made, done = self._made_anew(row)
            self._put_aside(one, row)
            with self._store.engine.begin() as connection:
                connection.exec_driver_sql(f"DELETE FROM {one.table} WHERE id = ?", (one.number,))
                if made:
                    connection.execute(insert(tables.matrix), made)
            yield Finding(self._store.path.name, one.what, done)

    def _row(self, one: Unreadable) -> dict[str, Any]:
        with self._store.engine.connect() as connection:
            found = connection.exec_driver_sql(f"SELECT * FROM {one.table} WHERE id = ?", (one.number,))
            return dict(found.mappings().one())

    def _put_aside(self, one: Unreadable, row: dict[str, Any]) -> None:
        aside = self._folder / ASIDE
        aside.mkdir(exist_ok=True, mode=0o700)
        told = {key: base64.b64encode(v).decode() if isinstance(v, bytes) else v for key, v in row.items()}
        write_durably(aside / f"{one.table}-{one.number}.json", json.dumps(told).encode())

    def _made_anew(self, row: dict[str, Any]) -> tuple[list[dict[str, object]], str]:
        """A matrix summed up from the points of its day, or from the narrower steps, as rows; and what that is."""
        tier = tier_of(row["tier"])
        series = np.unique(np.frombuffer(row["series"], np.int64)) if len(row["series"]) % 8 == 0 else np.empty(0, int)
        series = series[self._store.catalogue.series.has(series)] if len(series) else series
        if not len(series):
            return [], "it is taken out: its series are not known, and it is lost"
        made: list[dict[str, object]] = []
        sources: dict[str, int] = {}
        days = range(row["day"], row["day"] + max(1, row["whole"]))
        for day in days:
            summary, source = self._of_points(tier, day, series), "the points of that day"
            if not (summary.count > 0).any() and tier == "1h":
                summary, source = self._of_narrower(row["metric"], day, series), "the steps of 5 min"
            if (summary.count > 0).any():
                sources[source] = sources.get(source, 0) + 1
                metrics = np.full(len(series), row["metric"])
                made += matrix_rows(self._encoder, tier, metrics, day, 0, series, summary, how=REPLACED)
        if not made:
            return [], "it is taken out: nothing is left that it could be made of, and it is lost"
        lost = len(days) - sum(sources.values())
        told = " and ".join(sources)
        return made, f"it is made anew of {told}" + (
            f"; of {lost} of its {len(days)} days nothing is left" if lost else ""
        )

    def _of_narrower(self, metric: int, day: int, series: I64) -> Summary:
        width = TIER_SECONDS["5m"] * NS
        steps = Steps(day * DAY, width, DAY // width)
        narrow = Summary.empty(len(series), steps.count)
        self._store.reader.stored_rollup("5m", metric, series, steps, narrow)
        return coarser(narrow, TIER_SECONDS["1h"] // TIER_SECONDS["5m"])

    def _of_points(self, tier: TierName, day: int, series: I64) -> Summary:
        start, width = day * DAY, TIER_SECONDS[tier] * NS
        steps = Steps(start, width, DAY // width)
        pieces = self._store.reader.stored(series.tolist(), start - MAX_GAP, steps.end)
        moments = [times[np.searchsorted(times, start) :] for times, _ in pieces]
        return revised(pieces, moments, self._store.catalogue.series.kinds_of(series), steps)
