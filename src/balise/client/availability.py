"""How much of a span things were there."""

from __future__ import annotations

from balise.api.availability import Availability, AvailabilityList, AvailabilityTarget, AvailableOf
from balise.api.lists import Note
from balise.client.noun import Noun


class Availabilities(Noun):
    """Of hosts, services (HOST/SERVICE), probes and applications."""

    def of(self, of: AvailableOf, name: str, *, from_: str = "-30d", to: str = "now") -> Availability:
        """Shares of up, down, unknown and maintenance, and the outages.

        >>> balise.availability.of("host", "quay-a").outages
        []
        """
        return self._connection.get(Availability, "/availability", of=of, name=name, from_=from_, to=to)

    def all(
        self, of: AvailableOf, where: str | None = None, *, from_: str = "-30d", to: str = "now", limit: int = 1000
    ) -> AvailabilityList:
        """All of a kind, those that were down longest first, 1,000 at most.

        >>> sorted(one.name for one in balise.availability.all("host", 'name sw "quay-"').items)
        ['quay-a', 'quay-b']
        """
        asked = {"of": of, "where": where, "from_": from_, "to": to, "limit": limit}
        return self._connection.get(AvailabilityList, "/availability/list", **asked)

    def target(self, of: AvailableOf, name: str, target: AvailabilityTarget) -> str:
        """What share of a period something is to be up.

        >>> balise.availability.target("host", "quay-a", AvailabilityTarget(share=0.999))
        'host quay-a is to be up 99.9000% of each month'
        """
        return self._connection.send(Note, "PUT", "/availability/target", target, of=of, name=name).detail

    def drop_target(self, of: AvailableOf, name: str) -> str:
        """It has no target any more.

        >>> balise.availability.drop_target("host", "quay-a")
        'host quay-a has no target any more'
        """
        return self._connection.note("DELETE", "/availability/target", of=of, name=name)
