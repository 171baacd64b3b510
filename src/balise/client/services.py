"""Services and the kits they are read with."""

from __future__ import annotations

from balise.api.kit_documents import Kit
from balise.api.kits import KitTrial, Tried
from balise.api.services import Proposal, Service, ServiceBody, Sessions
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Services(Noun):
    """Services on hosts."""

    def list(self, host: str | None = None) -> Items[Service]:
        """All services, or those of a host.

        >>> balise.services.list("quay-a")
        []
        """
        return self._connection.items(Service, "/services", host=host)

    def proposals(self) -> Items[Proposal]:
        """Services that were found and nobody reads yet, with the kit that fits each.

        >>> balise.services.proposals()
        []
        """
        return self._connection.items(Proposal, "/services/proposals")

    def add(self, body: ServiceBody) -> Service:
        """Takes up a service. What the console is to read has to answer it first.

        >>> body = ServiceBody(host="quay-a", kit="port", mode="remote", target={"address": "127.0.0.1", "port": port})
        >>> balise.services.add(body).name  # doctest: +ELLIPSIS
        'port ...'
        """
        return self._connection.send(Service, "POST", "/services", body)

    def show(self, number: int) -> Service:
        """One service.

        >>> balise.services.show(1).kit
        'port'
        """
        return self._connection.get(Service, f"/services/{number}")

    def sessions(self, number: int, at: str | None = None) -> Sessions:
        """Who is at work in a service, and who blocks whom.

        >>> balise.services.sessions(1).items
        []
        """
        return self._connection.get(Sessions, f"/services/{number}/sessions", at=at)

    def delete(self, number: int) -> str:
        """A service is read no more.

        >>> balise.services.delete(1)
        'the service is read no more; its series stay until they are forgotten'
        """
        return self._connection.note("DELETE", f"/services/{number}")


class Kits(Noun):
    """What services are read with."""

    def list(self) -> Items[Kit]:
        """All kits, in the version that services are read with.

        >>> "postgresql" in [kit.name for kit in balise.kits.list()]
        True
        """
        return self._connection.items(Kit, "/kits")

    def try_(self, name: str, body: KitTrial) -> Tried:
        """Reads a target once from the console.

        >>> balise.kits.try_("port", KitTrial(target={"address": "127.0.0.1", "port": port})).problems
        []
        """
        return self._connection.send(Tried, "POST", f"/kits/{quoted(name)}/try", body)
