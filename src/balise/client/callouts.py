"""Who is told of what."""

from __future__ import annotations

from balise.api.notify import Callout, CalloutBody, Delivery
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Callouts(Noun):
    """Who is told of what."""

    def list(self) -> Items[Callout]:
        """All callouts.

        >>> balise.callouts.list()
        []
        """
        return self._connection.items(Callout, "/callouts")

    def set(self, name: str, body: CalloutBody) -> Callout:
        """Keeps a callout, new or changed.

        >>> balise.callouts.set("Nights", CalloutBody(when='severity eq "critical"', tell=["duty"])).tell
        ['duty']
        """
        return self._connection.send(Callout, "PUT", f"/callouts/{quoted(name)}", body)

    def delete(self, name: str) -> str:
        """Takes a callout away.

        >>> balise.callouts.delete("Nights")
        'callout Nights deleted'
        """
        return self._connection.note("DELETE", f"/callouts/{quoted(name)}")


class Deliveries(Noun):
    """The record of what was told to whom."""

    def list(self, *, state: str | None = None, limit: int = 100) -> Items[Delivery]:
        """The newest deliveries.

        >>> balise.deliveries.list(state="given-up", limit=10)
        []
        """
        return self._connection.items(Delivery, "/deliveries", state=state, limit=limit)
