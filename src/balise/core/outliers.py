"""Which members of a group are unlike the others."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from balise.core.rules.baseline import TO_SIGMA

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
LEAST_MEMBERS = 5
"""Of fewer, nobody can tell what is usual."""
UNUSUAL = 3.5
"""Robust deviations from which one is unlike the others (Iglewicz and Hoaglin 1993)."""
_SHARE = 0.05
"""Of the middle, the least that counts as one deviation: of members that are all alike, a little is no matter."""


def unlike(values: F64, groups: I64) -> F64:
    """How many robust deviations each value is from the middle of its group, signed; NaN where it is not unusual.

    Args:
        values: one a member [n], NaN for nothing.
        groups: the group of each member [n].
    """
    out = np.full(len(values), np.nan)
    for group in np.unique(groups[~np.isnan(values)]).tolist():
        mine = np.flatnonzero((groups == group) & ~np.isnan(values))
        if len(mine) < LEAST_MEMBERS:
            continue
        own = values[mine]
        middle = float(np.median(own))
        spread = max(TO_SIGMA * float(np.median(np.abs(own - middle))), _SHARE * abs(middle))
        if spread > 0:
            away = (own - middle) / spread
            out[mine] = np.where(np.abs(away) >= UNUSUAL, away, np.nan)
    return out
