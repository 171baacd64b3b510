"""What is on hosts."""

from __future__ import annotations

from balise.api.inventory import Inventory
from balise.client.connection import quoted
from balise.client.noun import Noun


class Inventories(Noun):
    """What is on hosts, now or at an earlier moment."""

    def show(self, host: str, kind: str | None = None, at: str | None = None) -> Inventory:
        """What is on a host.

        >>> balise.inventory.show("quay-a", "packages").items
        []
        """
        return self._connection.get(Inventory, f"/hosts/{quoted(host)}/inventory", kind=kind, at=at)
