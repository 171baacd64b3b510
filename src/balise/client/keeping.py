"""How long things are kept."""

from __future__ import annotations

from balise.api.keeping import Keeping, RetentionAnswer, RetentionBody
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

    def retention(self) -> RetentionAnswer:
        """How long points and events are kept, by filter, beside what they take.

        >>> balise.keeping.retention().events[-1].where is None
        True
        """
        return self._connection.get(RetentionAnswer, "/retention")

    def set_retention(self, body: RetentionBody) -> RetentionAnswer:
        """Keeps points and events so long from now on; the first filter that an event passes decides.

        >>> quiet = EventKeep(where='severity eq "debug"', keep="2d")
        >>> balise.keeping.set_retention(RetentionBody(events=[quiet, EventKeep(keep="30d")])).events[0].keep
        '2d'
        """
        return self._connection.send(RetentionAnswer, "PUT", "/retention", body)
