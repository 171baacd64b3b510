"""Numbers that the console itself knows of hosts, kept as series so that rules can watch them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np

from balise.core.moments import nanos
from balise.store.series.store import SeriesStore

Metrics = Mapping[str, tuple[str, str]]
"""Unit and meaning of each metric."""


class Gauge(NamedTuple):
    """A value of a host's metric, with its attributes."""

    host: int
    metric: str
    attributes: tuple[tuple[str, str], ...]
    value: float


def keep_gauges(series: SeriesStore, metrics: Metrics, values: Sequence[Gauge], at: float) -> None:
    """Returns once they are taken; `at` is unix seconds. Nothing is kept of no values."""
    if not values:
        return
    catalogue = series.catalogue
    ids = np.array(
        [
            catalogue.series_id(
                one.host, catalogue.metric(one.metric, metrics[one.metric][0], "gauge", metrics[one.metric][1]),
                one.attributes, "", "gauge",
            )
            for one in values
        ]
    )  # fmt: skip
    times = np.full(len(ids), nanos(at), np.int64)
    series.accept_now(series.batch(catalogue.layouts.of(ids), times, np.array([round(v.value, 6) for v in values])))
