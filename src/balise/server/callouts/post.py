"""Sending deliveries by the channels they name."""

from __future__ import annotations

from collections.abc import Sequence

from balise.server.callouts.channels.channel import NotThrough
from balise.server.callouts.channels.kinds import CHANNELS
from balise.store.state import tables
from balise.store.state.secrets import Sealer
from balise.store.state.store import StateStore
from balise.store.state.tables import Delivery


class Post:
    """Finds the channel of a delivery, with its secret, and sends by it."""

    def __init__(self, *, state: StateStore, sealer: Sealer, public_url: str) -> None:
        self._state = state
        self._sealer = sealer
        self._public_url = public_url

    def send(self, delivery: Delivery, only: Sequence[str] | None = None) -> list[str]:
        """Sends one delivery now; answers the addresses that did not take it for the moment.

        Raises:
            NotThrough: nobody took it.
        """
        row = self._state.read(lambda s: s.get(tables.Channel, delivery.channel))
        if row is None:
            raise NotThrough(f"there is no channel {delivery.channel!r} any more", final=True)
        try:
            secret = self._sealer.open(row.secret) if row.secret else None
        except RuntimeError as error:
            raise NotThrough(str(error)) from None
        return CHANNELS[row.kind](row.settings, secret, self._public_url).send(delivery, only)
