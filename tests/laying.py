"""A console without a service around it, and points laid down in it as if they had been sent long ago."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from balise.core.moments import NS
from balise.core.series.wire import PointKind
from balise.server.parts import Parts

F64 = NDArray[np.float64]


def lay(
    console: Parts,
    host: str,
    metric: str,
    times: F64,
    values: F64,
    attributes: Mapping[str, str] | None = None,
    *,
    unit: str = "1",
    kind: PointKind = "gauge",
    part: str = "",
) -> None:
    """Times in unix seconds [n], values [n]."""
    known = console.directory.ensure(host)
    made = console.series.catalogue.metric(metric, unit, "counter" if kind == "counter" else "gauge", "")
    own = tuple(sorted((attributes or {}).items()))
    one = np.array([console.series.catalogue.series_id(known.id, made, own, part, kind)])
    console.series.lay_down([one], [(times * NS).astype(np.int64)], [values[None]])
