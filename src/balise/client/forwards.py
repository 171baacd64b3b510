"""Forwards of events and points."""

from __future__ import annotations

from balise.api.forwards import Forward, ForwardBody
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Forwards(Noun):
    """Events and points sent on, all the time, to another system."""

    def list(self) -> Items[Forward]:
        """All forwards, with how they go.

        >>> balise.forwards.list()
        []
        """
        return self._connection.items(Forward, "/forwards")

    def set(self, name: str, body: ForwardBody) -> Forward:
        """Sends what comes from now on.

        >>> to = SyslogDestination(protocol="syslog", transport="udp", address="127.0.0.1:9")
        >>> balise.forwards.set("office", ForwardBody(where='severity ge "error"', to=to)).sent
        0
        """
        return self._connection.send(Forward, "PUT", f"/forwards/{quoted(name)}", body)

    def get(self, name: str) -> Forward:
        """One forward.

        >>> balise.forwards.get("office").problem is None
        True
        """
        return self._connection.get(Forward, f"/forwards/{quoted(name)}")

    def delete(self, name: str) -> str:
        """Sends nothing on any more.

        >>> balise.forwards.delete("office")
        'forward office deleted: nothing is sent on any more'
        """
        return self._connection.note("DELETE", f"/forwards/{quoted(name)}")
