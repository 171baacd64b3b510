"""Points as they came, a day at a time, by metric."""

from __future__ import annotations

import numpy as np
import pyarrow as pa

from balise.store.database import in_pieces
from balise.store.exports.columns import moments, of_series
from balise.store.exports.dayfiles import DayFiles
from balise.store.exports.schemas import POINTS
from balise.store.exports.view import SeriesView
from balise.store.series.matrices import DAY

METRICS_AT_ONCE = 200
"""Files that are open at once."""


def write(view: SeriesView, day: int, start: int, end: int, files: DayFiles) -> None:
    """Writes what there is of a day within [start, end) nanoseconds."""
    start, end = max(start, day * DAY), min(end, (day + 1) * DAY)
    for metrics in in_pieces(sorted(view.catalogue.metric_by_id), METRICS_AT_ONCE):
        for host in sorted(view.hosts):
            series = view.series_of(host, metrics)
            if series:
                _write_host(view, series, start, end, files)
        for metric in metrics:
            files.end(view.catalogue.metric_by_id[metric].name)


def _write_host(view: SeriesView, series: list[int], start: int, end: int, files: DayFiles) -> None:
    pieces = view.reader.raw(series, start, end)
    of_metric = view.catalogue.series.metrics_of(np.array(series, np.int64))
    for metric in np.unique(of_metric).tolist():
        mine = [i for i in np.flatnonzero(of_metric == metric).tolist() if len(pieces[i][0])]
        if not mine:
            continue
        rows = np.repeat(np.arange(len(mine)), [len(pieces[i][0]) for i in mine])
        times = np.concatenate([pieces[i][0] for i in mine])
        values = np.concatenate([pieces[i][1] for i in mine])
        columns = [
            *moments(times),
            *of_series(view, [series[i] for i in mine], rows),
            pa.array(values, mask=np.isnan(values)),
        ]
        files.add(view.catalogue.metric_by_id[metric].name, pa.Table.from_arrays(columns, schema=POINTS))
