"""What each feature of a suspect weighs, and what speaks for none, as `bench/fitting.py` found it for made-up cases."""

from __future__ import annotations

import numpy as np

OF = {
    "strength": 11.96,
    "earlier": 1.43,
    "explains": -1.59,
    "felt": 1.07,
    "explained": -2.01,
    "sources": 3.09,
    "only effects": -2.59,
    "follows": 3.79,
    "narrower": -1.0,
    "share": 7.14,
    "errors": -4.37,
    "waiting": -0.48,
    "saturation": -2.09,
    "apart": -1.01,
    "process": -0.62,
    "session": 1.48,
    "changed": 0.12,
    "part": 4.52,
    "machine": 2.83,
    "host": 0.65,
}
WEIGHTS = np.array(list(OF.values()))
NONE = np.array([9.34, 7.81, 4.96])
"""A constant, how weak the strongest is, and how few places departed."""
