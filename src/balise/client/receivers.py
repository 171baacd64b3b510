"""Receivers of syslog."""

from __future__ import annotations

from balise.api.receivers import Receiver, ReceiverBody
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Receivers(Noun):
    """Addresses at which syslog is taken in."""

    def list(self) -> Items[Receiver]:
        """All receivers, with how they go.

        >>> balise.receivers.list()
        []
        """
        return self._connection.items(Receiver, "/receivers")

    def set(self, name: str, body: ReceiverBody) -> Receiver:
        """Takes syslog in at an address from now on.

        >>> body = ReceiverBody(transport="udp", listen=f"127.0.0.1:{free_port()}")
        >>> balise.receivers.set("quay", body).state
        'listening'
        """
        return self._connection.send(Receiver, "PUT", f"/receivers/{quoted(name)}", body)

    def get(self, name: str) -> Receiver:
        """One receiver.

        >>> balise.receivers.get("quay").received
        0
        """
        return self._connection.get(Receiver, f"/receivers/{quoted(name)}")

    def delete(self, name: str) -> str:
        """Ends a receiver.

        >>> balise.receivers.delete("quay")
        'receiver quay deleted; what it took in stays'
        """
        return self._connection.note("DELETE", f"/receivers/{quoted(name)}")
