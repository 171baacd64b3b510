"""What each feature of a suspect weighs, and what speaks for none, as `bench/fitting.py` found it for made-up cases."""

from __future__ import annotations

import numpy as np

OF = {
    "strength": 9.47,
    "earlier": -0.18,
    "explains": 4.03,
    "felt": 2.14,
    "explained": -2.30,
    "sources": 2.91,
    "only effects": -2.24,
    "follows": 5.32,
    "narrower": -5.19,
    "takes": 0.56,
    "share": 3.50,
    "errors": -2.24,
    "waiting": -1.66,
    "saturation": -0.69,
    "apart": -1.31,
    "process": -1.74,
    "session": -0.83,
    "changed": 1.01,
    "part": -0.13,
    "machine": 2.66,
    "host": -0.52,
}
WEIGHTS = np.array(list(OF.values()))
NONE = np.array([8.31, 7.30, 4.96])
"""A constant, how weak the strongest is, and how few places departed."""
TOLD = np.array([0.773, 1.383, -0.242, 0.205])
"""What is told of a share: what the parts of `ranking.odds_of` weigh."""
