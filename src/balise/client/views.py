"""Saved views of the fleet."""

from __future__ import annotations

from balise.api.hosts import View, ViewBody
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Views(Noun):
    """Saved views of the fleet."""

    def list(self) -> Items[View]:
        """All views.

        >>> balise.views.list()
        []
        """
        return self._connection.items(View, "/views")

    def set(self, name: str, body: ViewBody) -> View:
        """Keeps a view.

        >>> balise.views.set("Quays", ViewBody(where='name sw "quay-"')).name
        'Quays'
        """
        return self._connection.send(View, "PUT", f"/views/{quoted(name)}", body)

    def delete(self, name: str) -> str:
        """Takes a view away.

        >>> balise.views.delete("Quays")
        'the view Quays is gone'
        """
        return self._connection.note("DELETE", f"/views/{quoted(name)}")
