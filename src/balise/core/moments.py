"""Where seconds and nanoseconds meet.

A moment or a length of time is a float of seconds nearly everywhere, and whole nanoseconds where it is kept with points
and events, because a float of seconds tells no nanoseconds apart. `Nanos` are the latter; they are made here alone.
"""

from __future__ import annotations

import time
from typing import NewType

NS = 1_000_000_000
"""Nanoseconds of a second."""
Nanos = NewType("Nanos", int)


def nanos(seconds: float) -> Nanos:
    """`nanos(1.5) == 1_500_000_000`."""
    return Nanos(int(seconds * NS))


def seconds_of(moment: int) -> float:
    """`seconds_of(1_500_000_000) == 1.5`."""
    return moment / NS


def now_nanos() -> Nanos:
    """This moment by the clock of this machine, since 1970."""
    return Nanos(time.time_ns())
