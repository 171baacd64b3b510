"""What was summed up in steps, a day at a time, by metric."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from balise.core.moments import NS
from balise.core.series.steps import TIER_SECONDS, Steps, TierName
from balise.core.series.summary import FIELDS
from balise.store.database import in_pieces
from balise.store.exports.columns import moments, of_series
from balise.store.exports.dayfiles import DayFiles
from balise.store.exports.schemas import ROLLUPS
from balise.store.exports.view import SeriesView, named
from balise.store.series.matrices import DAY


def write(view: SeriesView, tier: TierName, day: int, start: int, end: int, files: DayFiles) -> None:
    """Writes the steps of a day that begin within [start, end) nanoseconds."""
    width = TIER_SECONDS[tier] * NS
    first = -(-max(start, day * DAY) // width) * width
    count = -(-(min(end, (day + 1) * DAY) - first) // width)
    if count < 1:
        return
    steps = Steps(first, width, count)
    for metric in sorted(view.catalogue.metric_by_id):
        of_metric = named(view, list(view.catalogue.metric_by_id[metric].series))
        for series in in_pieces(of_metric):
            _write_series(view, tier, metric, list(series), steps, files)
        files.end(view.catalogue.metric_by_id[metric].name)


def _write_series(
    view: SeriesView, tier: TierName, metric: int, series: list[int], steps: Steps, files: DayFiles
) -> None:
    found = view.reader.rolled(tier, metric, series, steps, set(FIELDS))
    rows, at = np.nonzero(found.count > 0)
    if not len(rows):
        return
    kept = {name: getattr(found, name)[rows, at] for name in FIELDS}
    columns = [
        *moments(steps.start + at * steps.width),
        *of_series(view, series, rows),
        *(pa.array(kept[name]) for name in ("low", "high", "total")),
        pa.array(kept["count"].astype(np.int64)),
        *(pa.array(kept[name]) for name in ("last", "grown", "seen")),
    ]
    files.add(view.catalogue.metric_by_id[metric].name, pa.Table.from_arrays(columns, schema=ROLLUPS))
