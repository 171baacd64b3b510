"""Values put together by arithmetic, for all groups at once."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from balise.api.arithmetic import Operation, Tree

F64 = NDArray[np.float64]


def compute(tree: Tree, values: Mapping[str, F64]) -> F64:
    """The result for each group; NaN where a value is missing or a divisor is zero, and never infinite.

    Args:
        values: by name, all of one shape; at least one.
    """
    with np.errstate(all="ignore"):
        found = np.broadcast_to(_computed(tree, values), next(iter(values.values())).shape)
        return np.where(np.isfinite(found), found, np.nan)


def _computed(tree: Tree, values: Mapping[str, F64]) -> F64 | np.float64:
    if isinstance(tree, str):
        return values[tree]
    if not isinstance(tree, Operation):
        return np.float64(tree)
    left, right = _computed(tree.left, values), _computed(tree.right, values)
    if tree.sign == "+":
        return left + right
    if tree.sign == "-":
        return left - right
    return left * right if tree.sign == "*" else left / right
