"""The units of metrics, also of those that nobody has sent yet, and what kits say they tell of work."""

from __future__ import annotations

from balise.api.trail import SignKind
from balise.collect.telling import MEANINGS
from balise.core.kits.rows import meanings_of
from balise.server.hosts.signing_in import METRICS as OF_SIGN_INS
from balise.server.hosts.silence import METRICS as OF_SILENCE
from balise.server.inventory.book import METRICS as OF_INVENTORY
from balise.server.probes.results import METRICS as OF_PROBES
from balise.server.receivers.drops import METRICS as OF_RECEIVERS
from balise.server.services.kits import KitBook
from balise.store.series.catalogue import Catalogue


class Units:
    """Tells the unit of a metric: as its first sender said, else as whoever would send it describes it."""

    def __init__(self, *, catalogue: Catalogue, kits: KitBook) -> None:
        self._catalogue = catalogue
        self._kits = kits
        self._described: dict[str, str] | None = None
        self._told: dict[str, SignKind] | None = None

    def of(self, metric: str) -> str:
        """The unit in UCUM's words; empty when nobody has said it."""
        held = self._catalogue.metrics.get(metric)
        if held is not None:
            return held.unit
        if self._described is None:
            self._described = self._descriptions()
        return self._described.get(metric, "")

    def kind_of(self, metric: str) -> str:
        """Its kind, as its first sender said; a gauge where nobody has sent it."""
        held = self._catalogue.metrics.get(metric)
        return held.kind if held is not None else "gauge"

    def tells(self, metric: str) -> SignKind | None:
        """What it tells of work, where its kit says so."""
        if self._told is None:
            meanings = (meanings_of(self._kits.chosen(name)) for name in self._kits.names())
            self._told = {name: m.tells for held in meanings for name, m in held.items() if m.tells is not None}
        return self._told.get(metric)

    def forget(self) -> None:
        """Kits are other than they were."""
        self._described = None
        self._told = None

    def _descriptions(self) -> dict[str, str]:
        own = OF_SILENCE | OF_INVENTORY | OF_PROBES | OF_SIGN_INS | OF_RECEIVERS
        found = {name: unit for name, (unit, _) in own.items()}
        found |= {name: m.unit for meanings in MEANINGS.values() for name, m in meanings.items()}
        for kit in (self._kits.chosen(name) for name in self._kits.names()):
            found |= {name: m.unit for name, m in meanings_of(kit).items()}
        return found
