"""Objects in rings, which the interpreter has to look for among all that there are.

A console of thousands of hosts holds a million objects that live as long as it does. Each look through all of them
takes half a second, in which nothing else is done. So what has lived for a minute is set aside from looking, and looked
through once a day.
"""

from __future__ import annotations

import gc
import time
from collections.abc import Callable

LOOK_EVERY = 86_400.0
"""Seconds. What is in rings that broke off later than a minute after they were made is held until then."""


class Rubbish:
    """`set_aside` is called each minute."""

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self._looked_at = clock()

    def set_aside(self) -> None:
        """Sets aside what there is, but for rings among what is young."""
        if self._clock() - self._looked_at > LOOK_EVERY:
            self._looked_at = self._clock()
            look_through()
        gc.collect(1)
        gc.freeze()


def look_through() -> None:
    """Looks through everything; what was set aside is again."""
    aside = gc.get_freeze_count()
    gc.unfreeze()
    gc.collect()
    if aside:
        gc.freeze()
