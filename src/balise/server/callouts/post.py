"""Sending deliveries by the channels they name."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

from balise.server.callouts.channels.channel import NotThrough, Outside, Sent
from balise.server.callouts.channels.kinds import CHANNELS
from balise.store.state import tables
from balise.store.state.secrets import Sealer
from balise.store.state.store import StateStore
from balise.store.state.tables import Delivery

_ALONE = {"webhook": "bearer", "email": "password"}
"""What the secret of a channel was when it could be one alone."""


class Post:
    """Finds the channel of a delivery, with its secrets, and sends by it."""

    def __init__(self, *, state: StateStore, sealer: Sealer, outside: Outside) -> None:
        self._state = state
        self._sealer = sealer
        self._outside = outside

    @property
    def may_run(self) -> bool:
        """Whether channels may run commands."""
        return self._outside.may_run

    def send(self, delivery: Delivery, only: Sequence[str] | None = None) -> Sent:
        """Sends one delivery now.

        Raises:
            NotThrough: nobody took it.
        """
        row = self._state.read(lambda s: s.get(tables.Channel, delivery.channel))
        if row is None:
            raise NotThrough(f"there is no channel {delivery.channel!r} any more", final=True)
        try:
            secrets = opened_secrets(self._sealer, row)
        except RuntimeError as error:
            raise NotThrough(str(error)) from None
        return CHANNELS[row.kind](row.settings, secrets, self._outside).send(delivery, only)


def opened_secrets(sealer: Sealer, row: tables.Channel) -> dict[str, Any]:
    """The secrets of a channel. Raises RuntimeError when the key is not the one that they were sealed with."""
    if not row.secret:
        return {}
    text = sealer.open(row.secret)
    try:
        held = json.loads(text)
    except ValueError:
        held = None
    return held if isinstance(held, dict) else {_ALONE.get(row.kind, "bearer"): text}
