"""Rows of the inbox: bodies that are durable and not sealed yet."""

from __future__ import annotations

import numpy as np

from balise.store.series.catalogue import Catalogue
from balise.store.series.head import Batch


def read_row(catalogue: Catalogue, layout: int, times: bytes, points: bytes) -> Batch:
    """What a row holds: nanoseconds and values, for the series of its layout.

    Raises:
        LookupError: its series are not known.
        ValueError: it has not as many points as series.
    """
    known = catalogue.layouts.by_id.get(layout)
    if known is None or not catalogue.series.has(known.series).all():
        raise LookupError("its series are not known")
    batch = Batch(known, np.frombuffer(times, np.int64), np.frombuffer(points, np.float64))
    if len(batch.values) != len(known.series) or len(batch.times) not in (1, len(known.series)):
        raise ValueError(f"{len(batch.values)} values and {len(batch.times)} times for {len(known.series)} series")
    return batch
