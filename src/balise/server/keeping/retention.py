"""How long things are kept."""

from __future__ import annotations

from balise.api.keeping import Keeping
from balise.server.keeping.pruning import Pruner
from balise.server.keeping.settings import SettingsBook
from balise.store.events.store import EventStore
from balise.store.series.store import Retention, SeriesStore


class RetentionBook:
    """What people said of it, and the stores that keep to it."""

    def __init__(
        self, *, settings: SettingsBook, usual: Keeping, series: SeriesStore, events: EventStore, pruner: Pruner
    ) -> None:
        self._settings = settings
        self._usual = usual
        self._series = series
        self._events = events
        self._pruner = pruner
        self._keep_to(self.get())

    def get(self) -> Keeping:
        return self._settings.keeping() or self._usual

    def set(self, keeping: Keeping, who: str) -> Keeping:
        """Keeps things so long from now on; what is older goes within a minute."""
        self._settings.set_keeping(keeping, who)
        self._keep_to(keeping)
        return keeping

    def _keep_to(self, keeping: Keeping) -> None:
        self._series.retention = Retention(raw=keeping.raw, five_minutes=keeping.five_minutes, hour=keeping.hour)
        self._events.keep_days = keeping.events
        self._pruner.keep_for(alerts=keeping.alerts, audit=keeping.audit)
