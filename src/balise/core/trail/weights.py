"""What each feature of a suspect weighs, and what speaks for none, as `bench/fitting.py` found it for made-up cases."""

from __future__ import annotations

import numpy as np

OF = {
    "strength": 8.84,
    "earlier": 0.23,
    "explains": 3.83,
    "felt": 2.24,
    "explained": -2.27,
    "sources": 3.07,
    "only effects": -2.25,
    "follows": 5.07,
    "narrower": -5.98,
    "takes": 0.82,
    "share": 3.12,
    "errors": -2.19,
    "waiting": -1.55,
    "saturation": -0.62,
    "apart": -1.21,
    "process": -1.69,
    "session": -1.01,
    "changed": 0.58,
    "part": 0.03,
    "machine": 2.57,
    "host": -1.07,
}
WEIGHTS = np.array(list(OF.values()))
NONE = np.array([8.01, 7.11, 4.16])
"""A constant, how weak the strongest is, and how few places departed."""
