"""How well the system's clock is kept: what the kernel knows of it (adjtimex(2))."""

from __future__ import annotations

import ctypes
import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from balise.collect.readings import Meaning, NotHere, Reading

UNSYNCHRONISED = 0x0040
NANOSECONDS = 0x2000
"""Bits of a timex's status (linux/timex.h)."""


@dataclass(frozen=True, slots=True)
class ClockLook:
    """Seconds: what is still being corrected, and how far off the clock may be at most."""

    offset: float
    error: float
    synchronised: bool


class _Timex(ctypes.Structure):
    _fields_ = [
        ("modes", ctypes.c_uint),
        ("offset", ctypes.c_long),
        ("freq", ctypes.c_long),
        ("maxerror", ctypes.c_long),
        ("esterror", ctypes.c_long),
        ("status", ctypes.c_int),
        ("rest", ctypes.c_byte * 256),
    ]


def clock_look() -> ClockLook:
    """What the kernel says; asking changes nothing and needs no rights.

    Raises:
        OSError: this kernel does not say.
    """
    held = _Timex(modes=0)
    library = ctypes.CDLL(None, use_errno=True)
    if library.adjtimex(ctypes.byref(held)) < 0:
        raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))
    unit = 1e-9 if held.status & NANOSECONDS else 1e-6
    return ClockLook(held.offset * unit, held.maxerror * 1e-6, not held.status & UNSYNCHRONISED)


class Clock:
    """Whether a time service keeps the clock, and how far off it may be."""

    name = "clock"
    meanings = {
        "balise.clock.offset": Meaning("s", "gauge", "What the clock is being corrected by, as its time service says"),
        "balise.clock.error": Meaning("s", "gauge", "How far off the clock may be at most"),
        "balise.clock.synchronised": Meaning("{state}", "gauge", "1 while a time service keeps the clock, else 0"),
    }

    def __init__(self, look: Callable[[], ClockLook] = clock_look) -> None:
        self._look = look

    def read(self, now: float) -> Iterator[Reading]:
        del now
        try:
            c = self._look()
        except AttributeError:
            raise NotHere("this system's library has no adjtimex: the clock cannot be asked") from None
        yield Reading("balise.clock.synchronised", float(c.synchronised))
        if c.synchronised:
            # Without a time service both only say that nobody knows.
            yield Reading("balise.clock.offset", round(c.offset, 9))
            yield Reading("balise.clock.error", round(c.error, 6))
