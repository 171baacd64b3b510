"""What was read of files goes into the spool once: a parcel and how far it goes are kept as one."""

from __future__ import annotations

from collections.abc import Mapping

from balise.agent.places import Places
from balise.agent.spool import Spool
from balise.collect.position import Position


class Handover:
    """Keeps lines and how far they go, whatever happens between: a kill, a full disk.

    First it is written which parcel will hold the lines up to where, then the parcel, then that it is so. After a kill
    the parcel is there or it is not, and nobody has taken it: by that it is known how far was read.
    """

    def __init__(self, spool: Spool, places: Places) -> None:
        self._spool = spool
        self._places = places
        places.settle_all(spool.names())

    def put(self, content: bytes, positions: Mapping[str, Position]) -> None:
        """Keeps a parcel of log records, and how far they go. Raises OSError when it is not kept; then neither is."""
        if not self._places.differs(positions):
            self._spool.put("logs", content)
            return
        path = self._spool.next_path("logs")
        self._places.intend(path.stem, positions)
        try:
            self._spool.write(path, content)
        except OSError:
            self._places.give_up(path.stem)
            raise
        self._places.settle(path.stem)
        self._spool.hand_out(path, len(content))
