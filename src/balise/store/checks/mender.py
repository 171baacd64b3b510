"""Mending series.db: what cannot be read is taken out, and what can be made anew from what is left of it is."""

from __future__ import annotations

import base64
import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import insert

from balise.core.moments import NS
from balise.core.series.codec import BlockEncoder
from balise.core.series.growth import MAX_GAP, revised
from balise.core.series.steps import TIER_SECONDS, Steps, TierName
from balise.core.series.summary import Summary, coarser
from balise.durable import write_durably
from balise.store.checks.finding import Finding
from balise.store.series import tables
from balise.store.series.seal import DAY, REPLACED, TIERS, matrix_rows
from balise.store.series.store import SeriesStore

I64 = NDArray[np.int64]
ASIDE = "damaged"


class SeriesMender:
    """Works on a folder on which no service runs."""

    def __init__(self, folder: Path, store: SeriesStore) -> None:
        self._folder, self._store = folder, store
        self._encoder = BlockEncoder()

    def mend(self, blocks: Sequence[int], matrices: Sequence[int]) -> list[Finding]:
        """Takes out what cannot be read, of which a copy stays in a folder `damaged`; answers what was done."""
        name = self._store.path.name
        done = []
        for number in blocks:
            row = self._take_out("block", number)
            what = (
                f"block {number} is taken out: {row['samples']:,} points of {len(row['series']) // 8} series are lost"
            )
            done.append(Finding(name, what, "what was summed up of them stays", "they are in the backups before that"))
        taken = [self._take_out("matrix", number) for number in matrices]
        # Of the narrower steps first: the wider ones may be made of those.
        for row in sorted(taken, key=lambda row: row["tier"]):
            done.append(Finding(name, f"matrix {row['id']} is taken out", self._make_anew(row)))
        return done

    def _take_out(self, table: str, number: int) -> dict[str, Any]:
        with self._store.engine.connect() as connection:
            found = connection.exec_driver_sql(f"SELECT * FROM {table} WHERE id = ?", (number,))
            row = dict(found.mappings().one())
        aside = self._folder / ASIDE
        aside.mkdir(exist_ok=True, mode=0o700)
        told = {key: base64.b64encode(v).decode() if isinstance(v, bytes) else v for key, v in row.items()}
        write_durably(aside / f"{table}-{number}.json", json.dumps(told).encode())
        with self._store.engine.begin() as connection:
            connection.exec_driver_sql(f"DELETE FROM {table} WHERE id = ?", (number,))
        return row

    def _make_anew(self, row: dict[str, Any]) -> str:
        """Sums a matrix up from the points of its day, or from the narrower steps; what was done, in words."""
        tier = next(t for t in TIERS if TIER_SECONDS[t] == row["tier"])
        if len(row["series"]) % 8:
            return "its series are not known: it is lost"
        series = np.unique(np.frombuffer(row["series"], np.int64))
        series = series[self._store.catalogue.series.has(series)]
        if not len(series):
            return "its series are not known: it is lost"
        summary = self._of_points(tier, row["day"], series)
        source = "the points of that day"
        if not (summary.count > 0).any() and tier == "1h":
            steps = Steps(row["day"] * DAY, TIER_SECONDS["5m"] * NS, DAY // (TIER_SECONDS["5m"] * NS))
            narrow = Summary.empty(len(series), steps.count)
            self._store.reader.stored_rollup("5m", row["metric"], series, steps, narrow)
            summary, source = coarser(narrow, TIER_SECONDS["1h"] // TIER_SECONDS["5m"]), "the steps of 5 min"
        if not (summary.count > 0).any():
            return "nothing is left that it could be made of: it is lost"
        made = list(matrix_rows(self._encoder, tier, row["metric"], row["day"], 0, series, summary, how=REPLACED))
        with self._store.engine.begin() as connection:
            connection.execute(insert(tables.matrix), made)
        return f"made anew of {source}"

    def _of_points(self, tier: TierName, day: int, series: I64) -> Summary:
        start, width = day * DAY, TIER_SECONDS[tier] * NS
        steps = Steps(start, width, DAY // width)
        pieces = self._store.reader.stored(series.tolist(), start - MAX_GAP, steps.end)
        moments = [times[np.searchsorted(times, start) :] for times, _ in pieces]
        return revised(pieces, moments, self._store.catalogue.series.kinds_of(series), steps)
