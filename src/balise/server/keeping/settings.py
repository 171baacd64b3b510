"""Settings that people change while the service runs."""

from __future__ import annotations

from pydantic import BaseModel
from sqlalchemy.orm import Session

from balise.api.keeping import Keeping
from balise.api.remote import CollectionSettings
from balise.server.people.access import audit
from balise.server.signals import Signal
from balise.store.state.store import StateStore
from balise.store.state.tables import Setting

_COLLECTION, _KEEPING = "collection", "keeping"


class SettingsBook:
    """Settings as they are now; what was never set has its default."""

    def __init__(self, state: StateStore) -> None:
        self._state = state
        self.changed = Signal[None]("settings")
        """Another is said of how things are collected."""

    def collection(self) -> CollectionSettings:
        row = self._state.read(lambda s: s.get(Setting, _COLLECTION))
        return CollectionSettings.model_validate_json(row.value) if row else CollectionSettings()

    def set_collection(self, settings: CollectionSettings, who: str) -> CollectionSettings:
        self._set(_COLLECTION, settings, who)
        self.changed.tell(None)
        return settings

    def keeping(self) -> Keeping | None:
        """How long things are kept; None as long as nobody said."""
        row = self._state.read(lambda s: s.get(Setting, _KEEPING))
        return Keeping.model_validate_json(row.value) if row else None

    def set_keeping(self, keeping: Keeping, who: str) -> None:
        self._set(_KEEPING, keeping, who)

    def _set(self, name: str, settings: BaseModel, who: str) -> None:
        def write(session: Session) -> None:
            session.merge(Setting(name=name, value=settings.model_dump_json()))
            audit(session, who, f"settings.{name}", name, **settings.model_dump())

        self._state.write(write)
