"""Sealing, compacting and forgetting, at the pace of the disk."""

from __future__ import annotations

import time
from collections.abc import Callable

from balise.core.moments import now_nanos
from balise.server.keeping.pruning import Pruner
from balise.server.keeping.space import Space
from balise.server.signals import Signal
from balise.store.events.store import EventStore
from balise.store.series.store import SeriesStore

LONGEST_COMPACTING = 1.0
"""Seconds of a turn in which ended days are put together: those who ask meanwhile wait for it."""
FORGET_AFTER = 60.0
"""Seconds after a start before anything is forgotten: keeping longer can be said before."""


class Keeper:
    """Looks after what is stored. `keep` is called every few seconds."""

    def __init__(
        self,
        *,
        series: SeriesStore,
        events: EventStore,
        space: Space,
        pruner: Pruner,
        clock: Callable[[], float] = time.time,
    ) -> None:
        self._series = series
        self._events = events
        self._space = space
        self._pruner = pruner
        self._clock = clock
        self._began = clock()
        self.forgot = Signal[float]("forgot")
        """Told since when, unix seconds, there are events; what goes with them goes too."""
        self.made_room = Signal[None]("made room")
        """Series are gone, and others may have come to be taken."""

    def keep(self) -> None:
        now = now_nanos()
        if self._space.state != "full":
            # Sealing takes room before it gives some back.
            self._series.seal_due(now)
            self._series.compact(now, LONGEST_COMPACTING)
        if self._began + FORGET_AFTER < self._clock() or self._space.state == "full":
            self._series.forget(now)
            self._events.forget(now)
            if self._space.state != "full":
                # Removing within a day takes room before it gives some back.
                self._events.thin(now)
            self.forgot.tell(self._clock() - self._events.keep_days * 86_400)
            if self._series.make_room(now):
                self.made_room.tell(None)
            self._pruner.look(self._clock())
