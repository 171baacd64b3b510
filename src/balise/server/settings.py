"""Settings that people change while the service runs."""

from __future__ import annotations

from sqlalchemy.orm import Session

from balise.api.remote import CollectionSettings
from balise.server.access import audit
from balise.store.state.store import StateStore
from balise.store.state.tables import Setting

_COLLECTION = "collection"


class SettingsBook:
    """Settings as they are now; what was never set has its default."""

    def __init__(self, state: StateStore) -> None:
        self._state = state

    def collection(self) -> CollectionSettings:
        row = self._state.read(lambda s: s.get(Setting, _COLLECTION))
        return CollectionSettings.model_validate_json(row.value) if row else CollectionSettings()

    def set_collection(self, settings: CollectionSettings, who: str) -> CollectionSettings:
        def write(session: Session) -> None:
            session.merge(Setting(name=_COLLECTION, value=settings.model_dump_json()))
            audit(session, who, "settings.collection", _COLLECTION, **settings.model_dump())

        self._state.write(write)
        return settings
