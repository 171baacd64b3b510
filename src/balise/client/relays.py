"""Relays."""

from __future__ import annotations

from balise.api.relays import Relay
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Relays(Noun):
    """Relays at sites."""

    def list(self) -> Items[Relay]:
        """All relays, and how they do.

        >>> [relay.name for relay in balise.relays.list()]
        ['relay-n']
        """
        return self._connection.items(Relay, "/relays")

    def remove(self, name: str) -> str:
        """A relay may not forward any more; its hosts go to others.

        >>> balise.relays.remove("relay-n")
        'the relay relay-n may not forward any more; its hosts go to others'
        """
        return self._connection.note("DELETE", f"/relays/{quoted(name)}")
