"""How long things are kept."""

from __future__ import annotations

from balise.api.keeping import Keeping
from balise.client.noun import Noun


class Keepings(Noun):
    """For how many days points, events and alerts are kept."""

    def show(self) -> Keeping:
        """How long things are kept.

        >>> balise.keeping.show().events
        30.0
        """
        return self._connection.get(Keeping, "/settings/keeping")

    def set(self, keeping: Keeping) -> Keeping:
        """Keeps things so long from now on; what is older is forgotten for good.

        >>> balise.keeping.set(balise.keeping.show().model_copy(update={"events": 20.0})).events
        20.0
        """
        return self._connection.send(Keeping, "PUT", "/settings/keeping", keeping)
