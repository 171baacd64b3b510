"""Applications."""

from __future__ import annotations

from balise.api.applications import Application, ApplicationBody
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Applications(Noun):
    """What people outside know by name, and what it needs."""

    def list(self) -> Items[Application]:
        """All applications.

        >>> balise.applications.list()
        []
        """
        return self._connection.items(Application, "/applications")

    def apply(self, name: str, body: ApplicationBody) -> Application:
        """Keeps an application as it is drawn.

        >>> drawn = ApplicationBody.model_validate({"parts": [{"name": "gate", "host": "quay-a"}]})
        >>> balise.applications.apply("Piers", drawn).parts[0].name
        'gate'
        """
        sent = body.model_dump(mode="json", by_alias=True)
        return self._connection.send(Application, "PUT", f"/applications/{quoted(name)}", sent)

    def show(self, name: str) -> Application:
        """An application with the state and a figure of each part.

        >>> len(balise.applications.show("Piers").parts)
        1
        """
        return self._connection.get(Application, f"/applications/{quoted(name)}")

    def delete(self, name: str) -> str:
        """Takes an application away; its parts stay.

        >>> balise.applications.delete("Piers")
        'the application Piers is gone; its parts stay where they are'
        """
        return self._connection.note("DELETE", f"/applications/{quoted(name)}")
