"""What each feature of a suspect weighs, and what speaks for none, as `bench/fitting.py` found it for made-up cases."""

from __future__ import annotations

import numpy as np

OF = {
    "strength": 9.46,
    "earlier": -0.16,
    "explains": 3.62,
    "felt": 2.16,
    "explained": -2.30,
    "sources": 2.94,
    "only effects": -2.12,
    "follows": 5.31,
    "narrower": -5.36,
    "takes": 0.58,
    "share": 3.42,
    "errors": -2.27,
    "waiting": -1.63,
    "saturation": -0.68,
    "apart": -1.26,
    "process": -1.74,
    "session": -0.83,
    "changed": 0.87,
    "part": -0.12,
    "machine": 2.66,
    "host": -0.61,
}
WEIGHTS = np.array(list(OF.values()))
NONE = np.array([8.25, 7.15, 4.94])
"""A constant, how weak the strongest is, and how few places departed."""
