"""Rows of many series as columns of a table."""

from __future__ import annotations

import json

import numpy as np
import pyarrow as pa
from numpy.typing import NDArray

from balise.store.exports.view import SeriesView

I64 = NDArray[np.int64]


def moments(times: I64) -> list[pa.Array]:
    """`time` and `unix_nanos`."""
    return [pa.array(times // 1000, pa.int64()).cast(pa.timestamp("us", "UTC")), pa.array(times)]


def of_series(view: SeriesView, series: list[int], rows: I64) -> list[pa.Array]:
    """`host`, `attributes`, `part`, `kind` and `unit` of rows, of which each is of the series at a place [n]."""
    held = [view.catalogue.series[one] for one in series]
    units = [view.catalogue.metric_by_id[one.metric].unit for one in held]
    columns = (
        [view.hosts[one.host] for one in held],
        [json.dumps(dict(one.attributes), ensure_ascii=False, separators=(",", ":")) for one in held],
        [one.part for one in held],
        [str(one.kind) for one in held],
        units,
    )
    return [words(values, rows) for values in columns]


def words(values: list[str], rows: I64) -> pa.DictionaryArray:
    """A column of text that comes again: at which place of the values each row is."""
    return pa.array(values, pa.string()).dictionary_encode().take(pa.array(rows))
