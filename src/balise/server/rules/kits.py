"""The rules that kits bring: put to work when a kit is used, and renewed with it."""

from __future__ import annotations

from balise.api.kit_documents import KitDocument
from balise.server.rules.book import RuleBook
from balise.server.services.book import ServiceBook
from balise.server.services.kits import KitBook, KitChanged


class KitRules:
    """Keeps rules as the kits in use say, except those that somebody changed or removed."""

    def __init__(self, *, rules: RuleBook, kits: KitBook, services: ServiceBook) -> None:
        self._rules = rules
        self._kits = kits
        self._services = services

    def begin(self) -> None:
        """Keeps the rules of every console and of the kits of systems; the watch takes them up afterwards."""
        self._rules.ship()
        for kit in self._kits.of_system():
            self._rules.ship(kit.rules, f"the kit {kit.kit}")

    def used(self, kit: KitDocument) -> None:
        """A kit has a service now: its rules are put to work."""
        self._rules.ship_with_kit(kit.kit, kit.rules)

    def changed(self, change: KitChanged) -> None:
        """A kit in use is other than it was: so are its rules, and what is read with it."""
        kit = self._kits.find(change.kit)
        if kit is not None and (kit.system or self._services.all(kit=change.kit)):
            self.used(kit)
            self._services.kit_changed(change.kit, kit.version, change.before)
