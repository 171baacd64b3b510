"""How often objects that hold each other are looked for."""

from __future__ import annotations

import gc

RUBBISH = (20_000, 20, 10)
"""How many objects more there are before those in a ring are looked for. What is in hand holds hundreds, and nearly all
go by themselves: looking after each few of them took a twentieth of the time."""


def look_rarely() -> None:
    gc.set_threshold(*RUBBISH)
